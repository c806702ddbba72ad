//! The librarian of the sample, with a phone: answers on the stand-in's page as a person would.

use std::io::{self, Read, Write};
use std::net::TcpStream;

/// Opens the page on another device, types the code, and signs in with the one-time code that the phone shows.
pub fn let_in(
    address: &str,
    control: &str,
    code: &str,
    user: &str,
    password: &str,
) -> io::Result<()> {
    let phone = ask(&format!("{control}phone/{user}"), "GET", "")?;
    let form = format!(
        "code={code}&user={user}&password={password}&one-time-code={}&answer=let-in",
        phone.trim()
    );
    let page = ask(&format!("{address}.standin/sign-in"), "POST", &form)?;
    if page.contains("It is let in") {
        Ok(())
    } else {
        Err(io::Error::other("the page did not take the sign-in"))
    }
}

/// One request to a server on this computer; the body of its answer.
fn ask(url: &str, method: &str, body: &str) -> io::Result<String> {
    let odd = || io::Error::other(format!("{url} is no address of the stand-in"));
    let rest = url.strip_prefix("http://").ok_or_else(odd)?;
    let (host, path) = rest.split_once('/').ok_or_else(odd)?;
    let mut stream = TcpStream::connect(host)?;
    write!(
        stream,
        "{method} /{path} HTTP/1.1\r\nhost: {host}\r\nconnection: close\r\ncontent-length: {}\r\n\r\n{body}",
        body.len()
    )?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer)?;
    let (_, body) = answer.split_once("\r\n\r\n").ok_or_else(odd)?;
    Ok(body.to_owned())
}
