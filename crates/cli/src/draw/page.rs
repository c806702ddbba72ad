//! Pages to keep and to print: one file each, with nothing to fetch and no script in it.

use std::fmt::Write as _;

use super::time;

const STYLE: &str = "\
body{font:15px/1.45 system-ui,sans-serif;color:#1c2530;background:#fff;max-width:1080px;margin:2rem auto;padding:0 1.5rem}\
h1{font-size:1.5rem;margin:0}h2{font-size:1.15rem;margin:0 0 .2rem}header p{color:#5a6675;margin:.2rem 0 1.2rem}\
section{border-top:2px solid #1c2530;padding:1rem 0 1.4rem}.places{color:#5a6675;margin:0 0 .6rem}\
table{border-collapse:collapse;width:100%;margin:.8rem 0}th,td{text-align:left;padding:.3rem .8rem .3rem 0;border-bottom:1px solid #d8dee6;vertical-align:top;overflow-wrap:anywhere}\
th{font-weight:600;color:#5a6675}.n{text-align:right;white-space:nowrap;padding-right:1.4rem;font-variant-numeric:tabular-nums}\
tfoot td{font-weight:600;border-bottom:0}.w{white-space:nowrap}.good,.bad{font-weight:600;padding:.5rem .8rem;border-left:5px solid}\
.good{border-color:#2f7d4f;background:#eef7f1}.bad{border-color:#b3541e;background:#fdf3ec}\
ul{margin:.4rem 0;padding-left:1.2rem}svg{display:block;width:100%;height:auto;margin:.6rem 0}pre{font-size:13px;white-space:pre-wrap;overflow-wrap:anywhere}@media print{body{margin:0;max-width:none}section{break-inside:avoid-page}}";

/// A text inside a page: nothing in it is markup, and nothing turns the line around.
pub fn text(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            c if katabatic_core::words::acts(c) => out.extend(c.escape_default()),
            c => out.push(c),
        }
    }
    out
}

/// As [`text`], with its lines kept.
pub fn lines(many: &str) -> String {
    many.lines().map(text).collect::<Vec<_>>().join("\n")
}

/// A list of plain sentences.
pub fn list(body: &mut String, sentences: &[String]) {
    body.push_str("<ul>");
    for sentence in sentences {
        let _ = write!(body, "<li>{}</li>", text(sentence));
    }
    body.push_str("</ul>");
}

/// The whole page around a body.
pub fn whole(title: &str, body: &str) -> String {
    let now = time::dated_now();
    format!(
        "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
         <title>{title}</title><style>{STYLE}</style></head>\n<body><header><h1>{title}</h1><p>Made by Katabatic {} on {now}</p></header>\n{body}\n</body></html>\n",
        env!("CARGO_PKG_VERSION"),
        title = text(title),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_never_markup() {
        assert_eq!(
            text("<b onclick='x'>\u{202e}\n&"),
            "&lt;b onclick=&#39;x&#39;&gt;\\u{202e}\\n&amp;"
        );
    }
}
