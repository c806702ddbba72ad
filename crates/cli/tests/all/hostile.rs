//! Servers that mean harm, or are broken beyond belief: nothing outside the roots is touched, nothing here is removed or
//! spoilt, memory stays bounded, no pass hangs, and the message names the server's fault.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::worlds::{Desk, Said, tree};

/// The most a pass may need, whatever a server does: megabytes.
const MOST_MEMORY: f64 = 150.0;

/// What is asked.
struct Asked {
    method: String,
    path: String,
    depth: String,
}

type Answer = dyn Fn(&Asked, &mut TcpStream) -> std::io::Result<()> + Send + Sync;

/// A server that answers as it is told, one request a connection.
fn serve(answer: Arc<Answer>) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}/", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        for client in listener.incoming().flatten() {
            let answer = Arc::clone(&answer);
            std::thread::spawn(move || {
                let _ = one(client, &*answer);
            });
        }
    });
    address
}

fn one(mut client: TcpStream, answer: &Answer) -> std::io::Result<()> {
    let mut reader = BufReader::new(client.try_clone()?);
    let mut line = String::new();
    reader.read_line(&mut line)?;
    let mut words = line.split(' ').map(str::to_owned);
    let mut asked = Asked {
        method: words.next().unwrap_or_default(),
        path: words.next().unwrap_or_default(),
        depth: String::new(),
    };
    let mut length = 0;
    loop {
        let mut header = String::new();
        if reader.read_line(&mut header)? == 0 || header.trim().is_empty() {
            break;
        }
        let (name, value) = header.split_once(':').unwrap_or_default();
        match name.to_lowercase().as_str() {
            "content-length" => length = value.trim().parse().unwrap_or(0),
            "depth" => value.trim().clone_into(&mut asked.depth),
            _ => {}
        }
    }
    std::io::copy(&mut reader.take(length), &mut std::io::sink())?;
    answer(&asked, &mut client)?;
    client.shutdown(std::net::Shutdown::Write)
}

const HEAD: &str = "HTTP/1.1 207 Multi-Status\r\nConnection: close\r\nContent-Type: application/xml\r\n\r\n\
    <?xml version=\"1.0\"?><D:multistatus xmlns:D=\"DAV:\">";
const END: &str = "</D:multistatus>";
const ME: &str = "<D:current-user-principal><D:href>/.standin/principals/librarian/</D:href></D:current-user-principal>";

fn folder(href: &str) -> String {
    format!(
        "<D:response><D:href>{href}</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype>{ME}</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>"
    )
}

fn file(href: &str, length: u64) -> String {
    format!(
        "<D:response><D:href>{href}</D:href><D:propstat><D:prop><D:resourcetype/><D:getcontentlength>{length}</D:getcontentlength><D:getetag>\"{length}-{}\"</D:getetag></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>",
        href.len()
    )
}

/// Answers as a plain server would, but for the listing of the lane's folder and for downloads.
fn listing(
    members: impl Fn(&mut TcpStream) -> std::io::Result<()> + Send + Sync + 'static,
) -> Arc<Answer> {
    Arc::new(
        move |asked, to| match (asked.method.as_str(), asked.depth.as_str()) {
            ("PROPFIND", "0") => write!(to, "{HEAD}{}{END}", folder(&asked.path)),
            ("PROPFIND", "1") if asked.path.trim_end_matches('/') == "/Scores" => {
                write!(to, "{HEAD}{}", folder("/Scores/"))?;
                members(to)?;
                to.write_all(END.as_bytes())
            }
            ("PROPFIND", "1") => write!(to, "{HEAD}{}{END}", folder(&asked.path)),
            ("GET", _) => write!(
                to,
                "HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 4\r\n\r\nevil"
            ),
            _ => write!(
                to,
                "HTTP/1.1 405 No\r\nConnection: close\r\nContent-Length: 0\r\n\r\n"
            ),
        },
    )
}

/// A lane that was settled with a good server, and then meets another one at its address.
fn meets(answer: Arc<Answer>) -> Desk {
    let mut desk = Desk::bare(&[]);
    for at in ["a.txt", "Old/b.txt"] {
        desk.write_near(at, at);
    }
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    desk.run(&["sync"]).ends(0);
    desk.stop_serving();
    // As another software: nothing that was found out counts any more.
    let file = desk.path("home/katabatic.toml");
    let config = fs::read_to_string(&file).unwrap();
    fs::write(&file, config.replace(&desk.address, &serve(answer))).unwrap();
    desk
}

/// Runs a command; how much memory it needed at the most, in megabytes.
fn watched(desk: &Desk, arguments: &[&str]) -> (Said, f64) {
    let (out, err) = (desk.path("out"), desk.path("err"));
    let mut command: Command = desk.command(arguments);
    command
        .stdout(Stdio::from(fs::File::create(&out).unwrap()))
        .stderr(Stdio::from(fs::File::create(&err).unwrap()));
    let mut child = command.spawn().unwrap();
    let (began, mut peak) = (Instant::now(), 0.0f64);
    let code = loop {
        if let Some(status) = child.try_wait().unwrap() {
            break status.code();
        }
        assert!(
            began.elapsed() < Duration::from_secs(120),
            "it hangs: {}",
            fs::read_to_string(&err).unwrap()
        );
        let status = fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kilobytes =
            line.and_then(|line| line.trim().trim_end_matches(" kB").parse::<f64>().ok());
        peak = peak.max(kilobytes.unwrap_or(0.0) / 1000.0);
        std::thread::sleep(Duration::from_millis(5));
    };
    let said = Said {
        code,
        out: fs::read_to_string(out).unwrap(),
        err: fs::read_to_string(err).unwrap(),
    };
    (said, peak)
}

/// A sync that must leave everything here as it was, but for `new`.
#[track_caller]
fn harmless(desk: &Desk, case: &str, new: &[&str]) -> Said {
    let before = tree(&desk.near());
    let around = names(desk);
    let (said, peak) = watched(desk, &["sync"]);
    assert!(!said.err.contains("panicked"), "{case}: {}", said.err);
    assert!(said.code.is_some(), "{case}: it died");
    assert!(peak < MOST_MEMORY, "{case}: {peak} MB");
    let mut after = tree(&desk.near());
    for name in new {
        after.remove(*name);
    }
    assert_eq!(before, after, "{case}: {}\n{}", said.out, said.err);
    assert_eq!(
        around,
        names(desk),
        "{case}: something came to be around the root"
    );
    assert!(
        said.code != Some(0) || !new.is_empty() || said.out.contains("settled"),
        "{case}: {}",
        said.out
    );
    said
}

/// What lies around the near root.
fn names(desk: &Desk) -> Vec<String> {
    let mut names: Vec<String> = fs::read_dir(desk.path(""))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .filter(|name| name != "out" && name != "err")
        .collect();
    names.sort();
    names
}

#[test]
fn names_that_lead_out_of_the_folder_lead_nowhere() {
    for href in [
        "/Scores/../evil.txt",
        "/Scores/%2e%2e/evil.txt",
        "/Scores/..%2fevil.txt",
        "/Scores/%2e%2e%2f%2e%2e%2fevil.txt",
        "/evil.txt",
        "//evil.txt",
        "/etc/evil.txt",
        "/Scores/a%00evil.txt",
        "/Scores//etc/evil.txt",
        "/Scores/sub%2f..%2f..%2fevil.txt",
        "http://elsewhere.invalid/Scores/evil.txt",
        "file:///etc/evil.txt",
        "/Scores/%ff%feevil.txt",
        "/Other/evil.txt",
        "/Scores/.",
        "/Scores/..",
        "",
        "\\..\\evil.txt",
    ] {
        let desk = meets(listing(move |to| {
            write!(to, "{}{}", file("/Scores/a.txt", 5), folder("/Scores/Old/"))?;
            write!(to, "{}", file(href, 4))
        }));
        let said = harmless(&desk, href, &[]);
        assert_ne!(said.code, Some(4), "{href}: {}", said.err);
        assert!(!desk.path("evil.txt").exists(), "{href}");
    }
}

#[test]
fn listings_that_cannot_be_true_remove_nothing() {
    let plain = || format!("{}{}", file("/Scores/a.txt", 5), folder("/Scores/Old/"));
    let twice = plain() + &file("/Scores/a.txt", 7) + &file("/Scores/%61.txt", 9);
    let both = plain() + &folder("/Scores/a.txt/");
    let nested = format!("{}{}", "<D:x>".repeat(100_000), "</D:x>".repeat(100_000));
    let entity = "<!DOCTYPE x [<!ENTITY a \"aaaaaaaaaa\"><!ENTITY b \"&a;&a;&a;&a;&a;&a;&a;&a;\">]>"
        .to_owned() + &file("/Scores/&b;.txt", 4);
    let unfinished = plain() + "<D:response><D:href>/Scores/x";
    let garbage = "\u{0}\u{1}<<<>>>&&&;".to_owned();
    for (case, members) in [
        ("twice", twice),
        ("a file and a folder", both),
        ("nested", nested),
        ("entities", entity),
        ("unfinished", unfinished),
        ("garbage", garbage),
    ] {
        let desk = meets(listing(move |to| to.write_all(members.as_bytes())));
        harmless(&desk, case, &[]);
    }
}

#[test]
fn sizes_that_cannot_be_true_fetch_nothing() {
    for length in [
        "9223372036854775807",
        "18446744073709551615",
        "99999999999999999999999",
        "-1",
        "x",
    ] {
        let desk = meets(listing(move |to| {
            write!(to, "{}{}", file("/Scores/a.txt", 5), folder("/Scores/Old/"))?;
            let huge = file("/Scores/huge.wav", 4).replace(
                "<D:getcontentlength>4<",
                &format!("<D:getcontentlength>{length}<"),
            );
            to.write_all(huge.as_bytes())
        }));
        let said = harmless(&desk, length, &[]);
        assert_ne!(said.code, Some(0), "{length}: {}", said.out);
    }
}

#[test]
fn bodies_that_are_not_what_was_listed_never_get_a_name() {
    type Body = fn(&mut TcpStream) -> std::io::Result<()>;
    let bodies: [(&str, Body); 8] = [
        ("of another version of the same length", |to| {
            write!(
                to,
                "HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 4\r\nETag: \"older\"\r\n\r\nevil"
            )
        }),
        ("compressed, though nobody asked for it", |to| {
            write!(
                to,
                "HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Encoding: gzip\r\nTransfer-Encoding: chunked\r\nETag: \"4-16-gzip\"\r\n\r\n3\r\nxyz\r\n0\r\n\r\n"
            )
        }),
        ("longer than was said", |to| {
            write!(
                to,
                "HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 9\r\n\r\nevil evil"
            )
        }),
        ("shorter than was said", |to| {
            write!(
                to,
                "HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 4\r\n\r\nev"
            )
        }),
        ("without end", |to| {
            write!(to, "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n")?;
            loop {
                to.write_all(&[b'x'; 65536])?;
            }
        }),
        ("a wrong digest", |to| {
            write!(
                to,
                "HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 4\r\nETag: \"4-16\"\r\nRepr-Digest: sha-256=:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=:\r\n\r\nevil"
            )
        }),
        ("headers without end", |to| {
            write!(to, "HTTP/1.1 200 OK\r\nConnection: close\r\n")?;
            for number in 0.. {
                write!(to, "X-{number}: {}\r\n", "y".repeat(8000))?;
            }
            Ok(())
        }),
        ("to another place", |to| {
            write!(
                to,
                "HTTP/1.1 302 Found\r\nConnection: close\r\nLocation: file:///etc/passwd\r\nContent-Length: 0\r\n\r\n"
            )
        }),
    ];
    for (case, body) in bodies {
        let plain = listing(|to| {
            write!(to, "{}{}", file("/Scores/a.txt", 5), folder("/Scores/Old/"))?;
            write!(to, "{}", file("/Scores/n.txt", 4))
        });
        let desk = meets(Arc::new(
            move |asked: &Asked, to: &mut TcpStream| match asked.method.as_str() {
                "GET" => body(to),
                _ => plain(asked, to),
            },
        ));
        let said = harmless(&desk, case, &[]);
        assert_ne!(said.code, Some(0), "{case}: {}", said.out);
        assert_eq!(
            said.out.contains("Content-Encoding: gzip"),
            case.starts_with("compressed"),
            "{case}: {}",
            said.out
        );
        let staged = desk.path("home/lanes");
        let bytes: u64 = tree(&staged)
            .values()
            .map(|content| content.len() as u64)
            .sum();
        assert!(bytes < 1 << 20, "{case}: {bytes} bytes were taken in");
    }
}

#[test]
fn listings_without_end_come_to_an_end() {
    type Members = fn(&mut TcpStream) -> std::io::Result<()>;
    let kinds: [(&str, Members); 4] = [
        ("a name without end", |to| {
            to.write_all(b"<D:response><D:href>/Scores/")?;
            loop {
                to.write_all(&[b'x'; 65536])?;
            }
        }),
        ("depth without end", |to| {
            loop {
                to.write_all(&b"<D:x>".repeat(10_000))?;
            }
        }),
        ("a comment without end", |to| {
            to.write_all(b"<!--")?;
            loop {
                to.write_all(&[b'x'; 65536])?;
            }
        }),
        ("one name again and again", |to| {
            loop {
                to.write_all(file("/Scores/a.txt", 5).repeat(100).as_bytes())?;
            }
        }),
    ];
    for (case, members) in kinds {
        let desk = meets(listing(members));
        let said = harmless(&desk, case, &[]);
        assert_ne!(said.code, Some(0), "{case}: {}", said.out);
    }
}

#[test]
fn sizes_that_add_up_to_more_than_any_number_are_only_large() {
    let huge = (1_u64 << 50) - 1;
    let desk = meets(listing(move |to| {
        write!(to, "{}{}", file("/Scores/a.txt", 5), folder("/Scores/Old/"))?;
        for number in 0..20_000 {
            to.write_all(file(&format!("/Scores/{number:05}"), huge).as_bytes())?;
        }
        Ok(())
    }));
    for arguments in [
        &["plan"][..],
        &["recover", "scores"],
        &["audit", "--quick"],
        &["sizes", "@office/"],
        &["list", "@office/Scores"],
        &["choose", "scores"],
        &["sync"],
        &["status"],
    ] {
        let said = desk.run(arguments);
        assert!(
            !said.err.contains("panicked"),
            "{arguments:?}: {}",
            said.err
        );
    }
}

#[test]
fn a_compressed_listing_is_refused_by_name() {
    // A megabyte of zeros is a thousand bytes so; nothing is ever unpacked.
    let desk = meets(Arc::new(|asked, to| {
        if asked.depth == "0" {
            return write!(to, "{HEAD}{}{END}", folder(&asked.path));
        }
        let head = HEAD.replace("\r\nConnection", "\r\nContent-Encoding: gzip\r\nConnection");
        to.write_all(head.split("<?xml").next().unwrap().as_bytes())?;
        loop {
            to.write_all(&[0x1f, 0x8b, 8, 0, 0, 0, 0, 0])?;
        }
    }));
    let said = harmless(&desk, "compressed", &[]);
    assert_ne!(said.code, Some(0), "{}", said.out);
    said.says("Content-Encoding: gzip");
}

#[test]
fn a_folder_of_a_hundred_thousand_names_that_cannot_be_is_bounded() {
    let desk = meets(listing(|to| {
        write!(to, "{}{}", file("/Scores/a.txt", 5), folder("/Scores/Old/"))?;
        for number in 0..100_000 {
            to.write_all(file(&format!("/Scores/../{number}"), 4).as_bytes())?;
        }
        Ok(())
    }));
    let said = harmless(&desk, "names that lead out", &[]);
    assert_ne!(said.code, Some(0), "{}", said.out);
}
