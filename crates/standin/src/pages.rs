//! Plain pages of folders for a browser, and the page on which a person lets a program in.

use std::fmt::Write as _;

use jiff::tz::TimeZone;

use crate::listing::Found;
use crate::xml_names::href;

const STYLE: &str = "\
body{font:16px/1.5 Georgia,serif;max-width:46rem;margin:2.5rem auto;padding:0 1rem;color:#26221c;background:#f4efe6}\
h1{font-weight:normal;font-size:1.6rem;margin:0 0 .2rem}p{margin:.3rem 0 1rem}small{color:#6d6455}\
table{border-collapse:collapse;width:100%}th{text-align:left;font-weight:normal;color:#6d6455;border-bottom:1px solid #b8aa90}\
td,th{padding:.3rem .8rem .3rem 0}td.n,th.n{text-align:right;font-variant-numeric:tabular-nums}tr+tr td{border-top:1px solid #e2d8c5}\
a{color:#7a3b16;text-decoration:none}a:hover{text-decoration:underline}\
form{background:#fffaf0;border:1px solid #d9ccb2;padding:1.2rem 1.5rem;max-width:24rem}\
label{display:block;margin:.6rem 0}input{font:inherit;width:100%;box-sizing:border-box;padding:.3rem .5rem;border:1px solid #b8aa90;background:#fff}\
button{font:inherit;margin:1rem .6rem 0 0;padding:.35rem 1.2rem;border:1px solid #7a3b16;background:#7a3b16;color:#fff}\
button.no{background:none;color:#7a3b16}.wrong{color:#a01818}";

fn escaped(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}

fn page(title: &str, body: &str) -> String {
    format!(
        "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{0}</title>\
         <meta name=\"viewport\" content=\"width=device-width\"><style>{STYLE}</style></head>\n<body>{body}</body></html>\n",
        escaped(title)
    )
}

fn size(bytes: u64) -> String {
    match bytes {
        0..1_000 => format!("{bytes} B"),
        1_000..1_000_000 => format!("{:.1} kB", bytes as f64 / 1e3),
        1_000_000..1_000_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}

/// A folder's page; the first of `found` is the folder itself.
pub(crate) fn folder(user: &str, path: &str, found: &[Found]) -> String {
    let mut members: Vec<&Found> = found.iter().skip(1).collect();
    members.sort_by(|a, b| {
        let key = |item: &Found| (!item.meta.is_dir(), item.path.to_lowercase());
        key(a).cmp(&key(b))
    });
    let title = if path.is_empty() { "All folders" } else { path };
    let mut body = format!("<h1>{}</h1>\n<p><small>", escaped(title));
    let mut above = String::new();
    let _ = write!(body, "<a href=\"/\">{}</a>", escaped(user));
    for part in path.split('/').filter(|part| !part.is_empty()) {
        above = if above.is_empty() {
            part.to_owned()
        } else {
            format!("{above}/{part}")
        };
        let _ = write!(
            body,
            " / <a href=\"{}\">{}</a>",
            href(&above, true),
            escaped(part)
        );
    }
    let bytes: u64 = members
        .iter()
        .filter(|item| item.meta.is_file())
        .map(|item| item.meta.len())
        .sum();
    let folders = members.iter().filter(|item| item.meta.is_dir()).count();
    let (files, plural) = (
        members.len() - folders,
        |count: usize| {
            if count == 1 { "" } else { "s" }
        },
    );
    let _ = write!(
        body,
        " &nbsp;&middot;&nbsp; {folders} folder{}, {files} file{}, {} in the files here</small></p>\n\
         <table><tr><th>name</th><th class=\"n\">size</th><th class=\"n\">changed (UTC)</th><th>rights</th></tr>\n",
        plural(folders),
        plural(files),
        size(bytes)
    );
    for item in members {
        let (is_folder, name) = (
            item.meta.is_dir(),
            item.path.rsplit('/').next().unwrap_or_default(),
        );
        let slash = if is_folder { "/" } else { "" };
        let length = if is_folder {
            String::new()
        } else {
            size(item.meta.len())
        };
        let modified = std::os::unix::fs::MetadataExt::mtime(&item.meta);
        let when = jiff::Timestamp::new(modified, 0)
            .map(|at| {
                at.to_zoned(TimeZone::UTC)
                    .strftime("%Y-%m-%d %H:%M")
                    .to_string()
            })
            .unwrap_or_default();
        let shared = if item.owner == user {
            String::new()
        } else {
            format!("of {}, ", escaped(&item.owner))
        };
        let right = if item.writable {
            "read and write"
        } else {
            "read only"
        };
        let _ = writeln!(
            body,
            "<tr><td><a href=\"{}\">{}{slash}</a></td><td class=\"n\">{length}</td><td class=\"n\">{when}</td><td><small>{shared}{right}</small></td></tr>",
            href(&item.path, is_folder),
            escaped(name),
        );
    }
    body.push_str("</table>\n");
    page(title, &body)
}

/// The page on which a code is typed and a program let in.
pub(crate) fn sign_in(code: &str, wrong: Option<&str>) -> String {
    let wrong = wrong.map_or(String::new(), |wrong| {
        format!("<p class=\"wrong\">{}</p>", escaped(wrong))
    });
    let body = format!(
        "<h1>Let a program in</h1>\n<p>A program on another computer shows a code. Go on only if you see that code there \
         yourself.</p>\n{wrong}<form method=\"post\" action=\"/.standin/sign-in\">\n\
         <label>Code<input name=\"code\" value=\"{}\" autocomplete=\"off\"></label>\n\
         <label>Your name<input name=\"user\" autocomplete=\"username\"></label>\n\
         <label>Your password<input name=\"password\" type=\"password\" autocomplete=\"current-password\"></label>\n\
         <label>The one-time code of your phone, if you have a second step<input name=\"one-time-code\" autocomplete=\"one-time-code\"></label>\n\
         <button name=\"answer\" value=\"let-in\">Let it in</button><button class=\"no\" name=\"answer\" value=\"refuse\">Refuse</button>\n</form>\n",
        escaped(code)
    );
    page("Let a program in", &body)
}

/// The page after an answer.
pub(crate) fn answered(let_in: bool) -> String {
    let text = if let_in {
        "It is let in. You can close this page; the program goes on by itself."
    } else {
        "It is refused. You can close this page."
    };
    page("Thank you", &format!("<h1>Thank you</h1>\n<p>{text}</p>\n"))
}
