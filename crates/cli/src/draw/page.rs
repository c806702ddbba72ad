//! Pages to keep and to print: one file each, with nothing to fetch and no script in it.

use std::fmt::Write as _;

use super::time;

/// Dark where the reader's system is; a row under the other on a telephone, each with its heading; black on white in print.
/// What a keyboard is on is framed. Colours of drawings are taken by what they are drawn with in the light.
const STYLE: &str = "\
:root{color-scheme:light dark;--ink:#1c2530;--faint:#566271;--paper:#fff;--line:#d8dee6;--up:#1f7a8c;--down:#b27a12;--bad:#b3341e;\
--good-edge:#2f7d4f;--good-paper:#eef7f1;--bad-edge:#b3541e;--bad-paper:#fdf3ec}\
@media screen and (prefers-color-scheme:dark){:root{--ink:#e4e9ef;--faint:#a3afbd;--paper:#14191f;--line:#364150;--up:#5cb8c9;--down:#e0b054;--bad:#f0826a;\
--good-edge:#5cbf85;--good-paper:#17291f;--bad-edge:#e58a50;--bad-paper:#2e2119}}\
body{font:15px/1.45 system-ui,sans-serif;color:var(--ink);background:var(--paper);max-width:1080px;margin:2rem auto;padding:0 1.5rem}\
h1{font-size:1.5rem;margin:0}h2{font-size:1.15rem;margin:0 0 .2rem}header p{color:var(--faint);margin:.2rem 0 1.2rem}\
section{border-top:2px solid var(--ink);padding:1rem 0 1.4rem}.places{color:var(--faint);margin:0 0 .6rem;overflow-wrap:anywhere}\
table{border-collapse:collapse;width:100%;margin:.8rem 0}th,td{text-align:left;padding:.3rem .8rem .3rem 0;border-bottom:1px solid var(--line);vertical-align:top;overflow-wrap:anywhere}\
th{font-weight:600;color:var(--faint)}.n{text-align:right;white-space:nowrap;padding-right:1.4rem;font-variant-numeric:tabular-nums}\
.wrong .w{font-weight:700;color:var(--bad)}tfoot td{font-weight:600;border-bottom:0}.w{white-space:nowrap}.good,.bad{font-weight:600;padding:.5rem .8rem;border-left:5px solid}\
.good{border-color:var(--good-edge);background:var(--good-paper)}.bad{border-color:var(--bad-edge);background:var(--bad-paper)}\
ul{margin:.4rem 0;padding-left:1.2rem}li{overflow-wrap:anywhere}svg{display:block;width:100%;height:auto;margin:.6rem 0}pre,code{font-size:13px}pre{white-space:pre-wrap;overflow-wrap:anywhere}\
a:focus-visible,summary:focus-visible,[tabindex]:focus-visible{outline:3px solid var(--up);outline-offset:2px}\
[fill='#1c2530']{fill:var(--ink)}[fill='#5a6675']{fill:var(--faint)}[fill='#1f7a8c']{fill:var(--up)}[fill='#d39b2e']{fill:var(--down)}[fill='#b3341e']{fill:var(--bad)}[stroke='#d8dee6']{stroke:var(--line)}\
nav ul{list-style:none;padding:0;display:flex;flex-wrap:wrap;gap:.2rem 1.2rem}nav a{color:var(--up)}\
.scroll{overflow-x:auto}.scroll svg{min-width:36rem}\
@media (max-width:40rem){body{margin:1rem auto;padding:0 1rem}thead{position:absolute;width:1px;height:1px;overflow:hidden;clip-path:inset(50%)}\
tr{display:block;border-bottom:1px solid var(--line);padding:.3rem 0}td{display:flex;gap:1rem;border:0;padding:.1rem 0;text-align:left}\
td.n{text-align:left;padding-right:0}td[data-h]::before{content:attr(data-h);color:var(--faint);flex:none;width:7.5rem}td:first-child{font-weight:600}td:empty{display:none}}\
@media print{body{margin:0;max-width:none}section,tr{break-inside:avoid}nav{display:none}}";

/// How a column of a table stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Column {
    /// Sentences and paths.
    Text,
    /// A short word, never broken.
    Word,
    /// Numbers, to the right.
    Number,
}

/// A table of a page, which is a list of small cards where the page is narrow.
pub struct Table {
    columns: Vec<(&'static str, Column)>,
    html: String,
}

impl Table {
    /// One with these headings.
    pub fn new(columns: &[(&'static str, Column)]) -> Table {
        let mut html = "<table><thead><tr>".to_owned();
        for (heading, column) in columns {
            let _ = write!(html, "<th scope=\"col\"{}>{heading}</th>", class(*column));
        }
        html.push_str("</tr></thead><tbody>");
        Table {
            columns: columns.to_vec(),
            html,
        }
    }

    /// Adds a row of texts, of which nothing is markup.
    pub fn row<S: AsRef<str>>(&mut self, cells: &[S]) {
        self.cells("<tr>", cells);
    }

    /// The same of a row whose short word stands out: something is wrong.
    pub fn wrong_row<S: AsRef<str>>(&mut self, cells: &[S]) {
        self.cells("<tr class=\"wrong\">", cells);
    }

    fn cells<S: AsRef<str>>(&mut self, begin: &str, cells: &[S]) {
        self.html.push_str(begin);
        for (at, ((heading, column), cell)) in self.columns.iter().zip(cells).enumerate() {
            let heading = match at {
                0 => String::new(),
                _ => format!(" data-h=\"{heading}\""),
            };
            let lines: Vec<String> = cell.as_ref().lines().map(text).collect();
            // As one, so that a card has its heading on one side and its text on the other.
            let lines = match lines.len() {
                0 | 1 => lines.concat(),
                _ => format!("<span>{}</span>", lines.join("<br>")),
            };
            let _ = write!(self.html, "<td{}{heading}>{lines}</td>", class(*column));
        }
        self.html.push_str("</tr>");
    }

    /// The rows after this are sums.
    pub fn sums(&mut self) {
        self.html.push_str("</tbody><tfoot>");
    }

    /// The whole of it.
    pub fn end(self) -> String {
        let end = match self.html.contains("<tfoot>") {
            true => "</tfoot></table>",
            false => "</tbody></table>",
        };
        self.html + end
    }
}

fn class(column: Column) -> &'static str {
    match column {
        Column::Text => "",
        Column::Word => " class=\"w\"",
        Column::Number => " class=\"n\"",
    }
}

/// A drawing, which is moved to and fro where the page is too narrow for it; the keyboard reaches it.
pub fn drawing(name: &str, svg: &str) -> String {
    format!(
        "<div class=\"scroll\" tabindex=\"0\" role=\"group\" aria-label=\"{}\">{svg}</div>",
        text(name)
    )
}

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
        "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width,initial-scale=1\"><meta name=\"color-scheme\" content=\"light dark\">\
         <title>{title}</title><style>{STYLE}</style></head>\n<body><header><h1>{title}</h1><p>Made by Katabatic {} on {now}</p></header>\n<main>{body}</main>\n</body></html>\n",
        env!("CARGO_PKG_VERSION"),
        title = text(title),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_is_cards_with_headings_where_it_is_narrow() {
        let mut table = Table::new(&[("lane", Column::Word), ("files", Column::Number)]);
        table.row(&["<scores>", "1\n2"]);
        table.sums();
        table.row(&["in all", "3"]);
        let html = table.end();
        assert!(
            html.contains("<td class=\"w\">&lt;scores&gt;</td>"),
            "{html}"
        );
        assert!(
            html.contains("<td class=\"n\" data-h=\"files\"><span>1<br>2</span></td>"),
            "{html}"
        );
        assert!(html.ends_with("</tfoot></table>"), "{html}");
    }

    #[test]
    fn a_name_is_never_markup() {
        assert_eq!(
            text("<b onclick='x'>\u{202e}\n&"),
            "&lt;b onclick=&#39;x&#39;&gt;\\u{202e}\\n&amp;"
        );
    }
}
