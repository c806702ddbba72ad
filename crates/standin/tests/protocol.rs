//! The stand-in as a WebDAV client meets it: each method, its conditions, and each fault on purpose.

#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

use std::fs;
use std::path::PathBuf;
use std::sync::Arc;

use katabatic_standin::{Config, Fault, Faults, Running, StandinError, User, start};
use reqwest::{Client, Method, RequestBuilder, Response, StatusCode};

struct Cloud {
    dir: tempfile::TempDir,
    faults: Arc<Faults>,
    running: Running,
    http: Client,
}

impl Cloud {
    async fn new() -> Cloud {
        // Whoever comes first installs it; it is the same one for all.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let dir = tempfile::tempdir().unwrap();
        let faults = Arc::new(Faults::new(Vec::new(), 7));
        let running = start(Config {
            users: vec![
                User::new("ada", "a").unwrap(),
                User::new("bela", "b").unwrap(),
            ],
            faults: Arc::clone(&faults),
            ..Config::new(&dir.path().join("data"))
        })
        .await
        .unwrap();
        let http = Client::builder()
            .tls_certs_only([])
            .redirect(reqwest::redirect::Policy::none())
            .build()
            .unwrap();
        Cloud {
            dir,
            faults,
            running,
            http,
        }
    }

    fn fault(&self, faults: &[&str]) {
        self.faults.set(
            faults
                .iter()
                .map(|fault| fault.parse::<Fault>().unwrap())
                .collect(),
        );
    }

    fn file(&self, at: &str) -> PathBuf {
        self.dir.path().join("data/ada").join(at)
    }

    fn request(&self, method: &str, at: &str) -> RequestBuilder {
        let url = format!("{}{at}", self.running.url());
        self.http
            .request(Method::from_bytes(method.as_bytes()).unwrap(), url)
            .basic_auth("ada", Some("a"))
    }

    async fn status(&self, method: &str, at: &str) -> u16 {
        code(self.request(method, at)).await
    }

    async fn put(&self, at: &str, body: &str) -> Response {
        self.request("PUT", at)
            .body(body.to_owned())
            .send()
            .await
            .unwrap()
    }

    async fn tag(&self, at: &str) -> String {
        let response = self.request("HEAD", at).send().await.unwrap();
        response.headers()["etag"].to_str().unwrap().to_owned()
    }

    async fn move_to(&self, method: &str, from: &str, to: &str, overwrite: &str) -> u16 {
        let destination = format!("{}{to}", self.running.url());
        code(
            self.request(method, from)
                .header("destination", destination)
                .header("overwrite", overwrite),
        )
        .await
    }

    async fn listing(&self, at: &str, depth: &str) -> (u16, String) {
        let response = self
            .request("PROPFIND", at)
            .header("depth", depth)
            .send()
            .await
            .unwrap();
        (response.status().as_u16(), response.text().await.unwrap())
    }
}

async fn code(request: RequestBuilder) -> u16 {
    request.send().await.unwrap().status().as_u16()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_goes_in_and_comes_out() {
    let cloud = Cloud::new().await;
    let created = cloud.put("a%20b.txt", "hello").await;
    assert_eq!(created.status(), StatusCode::CREATED);
    let tag = created.headers()["etag"].to_str().unwrap().to_owned();
    assert_eq!(
        fs::read(cloud.file("a b.txt")).unwrap(),
        b"hello",
        "files lie plainly on the disk"
    );
    let got = cloud
        .request("GET", "a%20b.txt")
        .header("want-repr-digest", "sha-256=1")
        .send()
        .await
        .unwrap();
    assert_eq!(got.headers()["etag"].to_str().unwrap(), tag);
    assert_eq!(
        got.headers()["repr-digest"],
        "sha-256=:LPJNul+wow4m6DsqxbninhsWHlwfp0JecwQzYpOLmCQ=:"
    );
    assert_eq!(got.text().await.unwrap(), "hello");
    let replaced = cloud.put("a%20b.txt", "hello").await;
    assert_eq!(replaced.status(), StatusCode::NO_CONTENT);
    assert_ne!(
        replaced.headers()["etag"].to_str().unwrap(),
        tag,
        "every version has a tag of its own"
    );
    assert_eq!(
        cloud.put("missing/a.txt", "x").await.status(),
        StatusCode::CONFLICT
    );
    assert_eq!(cloud.status("DELETE", "a%20b.txt").await, 204);
    assert_eq!(cloud.status("DELETE", "a%20b.txt").await, 404);
    assert_eq!(cloud.status("GET", "a%20b.txt").await, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn ranges_are_served() {
    let cloud = Cloud::new().await;
    cloud.put("ten", "0123456789").await;
    for (range, status, body) in [
        ("bytes=0-3", 206, "0123"),
        ("bytes=7-", 206, "789"),
        ("bytes=-2", 206, "89"),
        ("bytes=8-99", 206, "89"),
        ("bytes=10-", 416, "no such range\n"),
        ("bytes=3-1", 416, "no such range\n"),
    ] {
        let response = cloud
            .request("GET", "ten")
            .header("range", range)
            .send()
            .await
            .unwrap();
        assert_eq!(response.status().as_u16(), status, "{range}");
        assert_eq!(response.text().await.unwrap(), body, "{range}");
    }
    let response = cloud
        .request("GET", "ten")
        .header("range", "bytes=2-4")
        .send()
        .await
        .unwrap();
    assert_eq!(response.headers()["content-range"], "bytes 2-4/10");
}

#[tokio::test(flavor = "multi_thread")]
async fn conditions_are_obeyed() {
    let cloud = Cloud::new().await;
    cloud.put("a", "one").await;
    let tag = cloud.tag("a").await;
    let with = async |method: &str, name: &str, value: &str| {
        code(
            cloud
                .request(method, "a")
                .header(name.to_owned(), value)
                .body("two"),
        )
        .await
    };
    assert_eq!(with("PUT", "if-none-match", "*").await, 412);
    assert_eq!(with("PUT", "if-match", "\"other\"").await, 412);
    assert_eq!(with("DELETE", "if-match", "\"other\"").await, 412);
    assert_eq!(with("GET", "if-match", "\"other\"").await, 412);
    assert_eq!(
        with("PUT", "if-match", &format!("W/{tag}")).await,
        412,
        "a weak tag never matches"
    );
    assert_eq!(fs::read(cloud.file("a")).unwrap(), b"one");
    assert_eq!(with("PUT", "if-match", &tag).await, 204);
    assert_eq!(fs::read(cloud.file("a")).unwrap(), b"two");
    assert_eq!(
        code(
            cloud
                .request("PUT", "fresh")
                .header("if-none-match", "*")
                .body("x")
        )
        .await,
        201
    );
    fs::write(cloud.file("a"), "three, by hand").unwrap();
    assert_ne!(
        cloud.tag("a").await,
        tag,
        "an edit on the disk has a tag of its own"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn folders_are_made_moved_copied_and_removed() {
    let cloud = Cloud::new().await;
    assert_eq!(cloud.status("MKCOL", "d").await, 201);
    assert_eq!(cloud.status("MKCOL", "d").await, 405);
    assert_eq!(cloud.status("MKCOL", "x/y").await, 409);
    assert_eq!(code(cloud.request("MKCOL", "z").body("x")).await, 415);
    cloud.put("d/a", "one").await;
    let tag = cloud.tag("d/a").await;
    assert_eq!(cloud.move_to("MOVE", "d/a", "b", "F").await, 201);
    assert_eq!(cloud.tag("b").await, tag, "a move keeps the tag");
    cloud.put("c", "other").await;
    assert_eq!(cloud.move_to("MOVE", "b", "c", "F").await, 412);
    assert_eq!(cloud.move_to("COPY", "b", "c", "F").await, 412);
    assert_eq!(fs::read(cloud.file("c")).unwrap(), b"other");
    assert_eq!(cloud.move_to("COPY", "b", "c", "T").await, 204);
    assert_ne!(cloud.tag("c").await, tag, "a copy is a version of its own");
    cloud.put("d/inside", "x").await;
    assert_eq!(cloud.move_to("COPY", "d", "e", "F").await, 201);
    assert!(cloud.file("e/inside").exists());
    assert_eq!(cloud.move_to("MOVE", "d", "d/into-itself", "F").await, 403);
    assert_eq!(cloud.move_to("MOVE", "d", "nowhere/d", "F").await, 409);
    assert_eq!(cloud.move_to("MOVE", "missing", "m", "F").await, 404);
    assert_eq!(cloud.status("DELETE", "d").await, 204);
    assert!(!cloud.file("d").exists());
    assert_eq!(cloud.status("DELETE", "").await, 403, "the root stays");
    assert_eq!(
        code(
            cloud
                .request("MOVE", "b")
                .header("destination", "http://elsewhere.example/b")
        )
        .await,
        400
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn listings_go_as_deep_as_is_asked() {
    let cloud = Cloud::new().await;
    cloud.status("MKCOL", "d").await;
    cloud.put("d/a", "12345").await;
    for (depth, count) in [("0", 1), ("1", 2), ("infinity", 3)] {
        let (_, xml) = cloud.listing("", depth).await;
        assert_eq!(xml.matches("<D:response>").count(), count, "{depth}");
    }
    let (status, xml) = cloud.listing("d/a", "0").await;
    assert_eq!(status, 207);
    assert!(
        xml.contains("<D:getcontentlength>5</D:getcontentlength>"),
        "{xml}"
    );
    assert!(xml.contains("<D:href>/d/a</D:href>"), "{xml}");
    assert_eq!(cloud.listing("missing", "0").await.0, 404);
    assert_eq!(cloud.listing("", "2").await.0, 400);
    assert_eq!(
        code(
            cloud
                .request("PROPFIND", "")
                .header("depth", "0")
                .body("<propfind")
        )
        .await,
        400
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn properties_of_the_clients_own_are_kept() {
    let cloud = Cloud::new().await;
    cloud.put("a", "one").await;
    let tag = cloud.tag("a").await;
    let patch = |what: &str| {
        let prop = "<prop><season xmlns='urn:x'>a &amp; b</season></prop>";
        format!("<propertyupdate xmlns='DAV:'><{what}>{prop}</{what}></propertyupdate>")
    };
    let asked = async |at: &str| {
        let ask = "<propfind xmlns='DAV:'><prop><season xmlns='urn:x'/></prop></propfind>";
        let request = cloud.request("PROPFIND", at).header("depth", "0").body(ask);
        request.send().await.unwrap().text().await.unwrap()
    };
    assert!(asked("a").await.contains("404 Not Found"));
    assert_eq!(
        code(cloud.request("PROPPATCH", "a").body(patch("set"))).await,
        207
    );
    assert!(asked("a").await.contains(">a &amp; b<"));
    assert_eq!(cloud.tag("a").await, tag, "a property is no new version");
    cloud.move_to("MOVE", "a", "b", "F").await;
    assert!(asked("b").await.contains(">a &amp; b<"), "it moves along");
    cloud.put("b", "two").await;
    assert!(
        asked("b").await.contains(">a &amp; b<"),
        "and outlives the content"
    );
    cloud
        .request("PROPPATCH", "b")
        .body(patch("remove"))
        .send()
        .await
        .unwrap();
    assert!(asked("b").await.contains("404 Not Found"));
    let live = "<propertyupdate xmlns='DAV:'><set><prop><getetag>x</getetag></prop></set></propertyupdate>";
    let refused = cloud.request("PROPPATCH", "b").body(live).send().await;
    assert!(
        refused
            .unwrap()
            .text()
            .await
            .unwrap()
            .contains("403 Forbidden")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn users_sign_in_and_see_only_their_own() {
    let cloud = Cloud::new().await;
    cloud.put("a", "ada's").await;
    let url = format!("{}a", cloud.running.url());
    let nobody = cloud.http.get(&url).send().await.unwrap();
    assert_eq!(nobody.status(), StatusCode::UNAUTHORIZED);
    assert!(
        nobody.headers()["www-authenticate"]
            .to_str()
            .unwrap()
            .starts_with("Basic")
    );
    assert_eq!(
        code(cloud.http.get(&url).basic_auth("ada", Some("b"))).await,
        401
    );
    assert_eq!(
        code(cloud.http.get(&url).basic_auth("bela", Some("b"))).await,
        404
    );
    let options = cloud.request("OPTIONS", "").send().await.unwrap();
    assert_eq!(options.headers()["dav"], "1, 2");
    assert_eq!(cloud.status("POST", "a").await, 405);
}

#[tokio::test(flavor = "multi_thread")]
async fn no_path_leads_out_of_the_users_folder() {
    let cloud = Cloud::new().await;
    fs::write(cloud.dir.path().join("secret"), "secret").unwrap();
    std::os::unix::fs::symlink(cloud.dir.path(), cloud.file("link")).unwrap();
    for at in ["link/secret", "a%2fb", "a%00b", "%ff", ".standin/seed"] {
        assert_eq!(cloud.status("GET", at).await, 400, "{at}");
    }
    assert_eq!(cloud.status("GET", "%2e%2e/%2e%2e/secret").await, 404);
    assert!(!cloud.listing("", "1").await.1.contains("link"));
}

#[tokio::test(flavor = "multi_thread")]
async fn each_fault_happens() {
    let cloud = Cloud::new().await;
    let text = "0123456789".repeat(20_000);
    cloud.put("a", &text).await;
    cloud.put(".dot", "x").await;
    cloud.status("MKCOL", "d").await;

    cloud.fault(&["busy=1"]);
    let busy = cloud.request("GET", "a").send().await.unwrap();
    assert_eq!(
        (
            busy.status().as_u16(),
            busy.headers()["retry-after"].to_str().unwrap()
        ),
        (503, "0")
    );
    cloud.fault(&["broken=1"]);
    assert_eq!(cloud.status("GET", "a").await, 500);
    cloud.fault(&["no-put-tag"]);
    assert!(!cloud.put("b", "x").await.headers().contains_key("etag"));
    cloud.fault(&["hide-dots"]);
    assert!(!cloud.listing("", "1").await.1.contains(".dot"));
    assert_eq!(cloud.status("GET", ".dot").await, 200);
    assert_eq!(cloud.listing(".dot", "0").await.0, 207);
    cloud.fault(&["unreadable=d"]);
    assert_eq!(cloud.listing("d", "1").await.0, 403);
    assert_eq!(cloud.listing("d", "0").await.0, 207);
    cloud.fault(&["flip=1"]);
    let flipped = cloud
        .request("GET", "a")
        .send()
        .await
        .unwrap()
        .text()
        .await
        .unwrap();
    assert_eq!(
        flipped
            .bytes()
            .zip(text.bytes())
            .filter(|(a, b)| a != b)
            .count(),
        1
    );
    cloud.fault(&["cut=1"]);
    assert!(
        cloud
            .request("GET", "a")
            .send()
            .await
            .unwrap()
            .text()
            .await
            .is_err()
    );
    assert!(
        cloud
            .request("PUT", "cut")
            .body(text.clone())
            .send()
            .await
            .is_err()
    );
    assert!(
        !cloud.file("cut").exists(),
        "a cut upload leaves nothing under its name"
    );
    cloud.fault(&["cut=1", "write-in-place"]);
    assert!(
        cloud
            .request("PUT", "half")
            .body(text.clone())
            .send()
            .await
            .is_err()
    );
    let half = fs::metadata(cloud.file("half")).unwrap().len();
    assert!(
        half > 0 && half < text.len() as u64,
        "{half} bytes under the real name"
    );
    cloud.fault(&["mute=1"]);
    assert!(cloud.request("MKCOL", "made").send().await.is_err());
    assert!(
        cloud.file("made").is_dir(),
        "it was carried out, and nobody was told"
    );
    cloud.fault(&["delay=30"]);
    let began = std::time::Instant::now();
    cloud.status("OPTIONS", "").await;
    assert!(began.elapsed().as_millis() >= 30);
}

#[tokio::test(flavor = "multi_thread")]
async fn it_serves_this_computer_alone() {
    let dir = tempfile::tempdir().unwrap();
    let config = Config {
        listen: "0.0.0.0:0".parse().unwrap(),
        ..Config::new(&dir.path().join("data"))
    };
    assert!(matches!(
        start(config).await,
        Err(StandinError::NotLoopback(_))
    ));
}

/// A cloud with something shared, a second step and a limit.
async fn office(change: impl FnOnce(Config) -> Config) -> Cloud {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let dir = tempfile::tempdir().unwrap();
    let faults = Arc::new(Faults::new(Vec::new(), 7));
    let config = Config {
        users: vec![
            User::new("ada", "a").unwrap(),
            User::new("bela", "b")
                .unwrap()
                .with_second_step()
                .with_app_password("app"),
        ],
        groups: vec!["choir=ada,bela".parse().unwrap()],
        shares: vec!["Season=bela,choir:read".parse().unwrap()],
        control: Some("127.0.0.1:0".parse().unwrap()),
        faults: Arc::clone(&faults),
        ..Config::new(&dir.path().join("data"))
    };
    let running = start(change(config)).await.unwrap();
    let http = Client::builder()
        .tls_certs_only([])
        .redirect(reqwest::redirect::Policy::none())
        .build()
        .unwrap();
    Cloud {
        dir,
        faults,
        running,
        http,
    }
}

impl Cloud {
    /// The value of a live property of a path.
    async fn property(&self, at: &str, name: &str) -> Option<String> {
        let body = format!("<propfind xmlns='DAV:'><prop><{name}/></prop></propfind>");
        let asked = self
            .request("PROPFIND", at)
            .header("depth", "0")
            .body(body)
            .send();
        let xml = asked.await.unwrap().text().await.unwrap();
        let (_, rest) = xml.split_once(&format!("<D:{name}>"))?;
        rest.split_once(&format!("</D:{name}>"))
            .map(|(value, _)| value.to_owned())
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_shared_folder_is_there_with_its_rights() {
    let cloud = office(|config| config).await;
    fs::write(
        cloud.dir.path().join("data/shared folders/Season/Plan.txt"),
        "May",
    )
    .unwrap();
    assert_eq!(
        cloud
            .listing("", "1")
            .await
            .1
            .matches("<D:response>")
            .count(),
        2
    );
    assert_eq!(
        cloud
            .listing("", "infinity")
            .await
            .1
            .matches("<D:response>")
            .count(),
        3
    );
    assert_eq!(
        cloud
            .request("GET", "Season/Plan.txt")
            .send()
            .await
            .unwrap()
            .text()
            .await
            .unwrap(),
        "May"
    );
    let (own, shared) = (
        cloud
            .property("", "current-user-privilege-set")
            .await
            .unwrap(),
        cloud
            .property("Season", "current-user-privilege-set")
            .await
            .unwrap(),
    );
    assert!(own.contains("<D:write/>") && !shared.contains("<D:write/>"));
    assert!(
        cloud
            .property("Season", "owner")
            .await
            .unwrap()
            .contains("/bela/")
    );
    assert!(
        cloud
            .property("", "current-user-principal")
            .await
            .unwrap()
            .contains("/ada/")
    );
    for (method, at) in [
        ("PUT", "Season/new.txt"),
        ("DELETE", "Season/Plan.txt"),
        ("MKCOL", "Season/new"),
        ("PROPPATCH", "Season/Plan.txt"),
        ("LOCK", "Season/Plan.txt"),
    ] {
        assert_eq!(cloud.status(method, at).await, 403, "{method}");
    }
    cloud.put("own.txt", "x").await;
    assert_eq!(
        cloud
            .move_to("MOVE", "own.txt", "Season/own.txt", "F")
            .await,
        403
    );
    assert_eq!(
        cloud
            .move_to("MOVE", "Season/Plan.txt", "Plan.txt", "F")
            .await,
        403
    );
    assert_eq!(
        cloud
            .move_to("COPY", "Season/Plan.txt", "Plan.txt", "F")
            .await,
        201
    );
    let by_bela = |method, at: &str| {
        let url = format!("{}{at}", cloud.running.url());
        cloud
            .http
            .request(Method::from_bytes(method).unwrap(), url)
            .basic_auth("bela", Some("app"))
    };
    assert_eq!(code(by_bela(b"PUT", "Season/new.txt").body("x")).await, 201);
    assert_eq!(
        code(by_bela(b"DELETE", "Season")).await,
        403,
        "a share stays"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn several_roots_hang_below_a_top_that_takes_nothing() {
    let cloud = office(|config| Config {
        several_roots: true,
        ..config
    })
    .await;
    assert_eq!(
        cloud
            .listing("", "1")
            .await
            .1
            .matches("<D:response>")
            .count(),
        3
    );
    assert_eq!(cloud.put("x", "x").await.status(), StatusCode::FORBIDDEN);
    assert_eq!(
        cloud.put("files/x", "x").await.status(),
        StatusCode::CREATED
    );
    assert!(cloud.file("x").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_quota_is_told_and_kept() {
    let cloud = office(|config| Config {
        quota: Some(100),
        ..config
    })
    .await;
    cloud.put("a", &"x".repeat(60)).await;
    assert_eq!(
        cloud.property("", "quota-used-bytes").await,
        Some("60".into())
    );
    assert_eq!(
        cloud.property("", "quota-available-bytes").await,
        Some("40".into())
    );
    assert_eq!(cloud.put("b", &"x".repeat(41)).await.status().as_u16(), 507);
    assert_eq!(cloud.move_to("COPY", "a", "c", "F").await, 507);
    assert_eq!(
        cloud.put("a", &"x".repeat(100)).await.status().as_u16(),
        204
    );
    cloud.fault(&["without=quota"]);
    assert_eq!(cloud.property("", "quota-used-bytes").await, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_resource_keeps_its_id_wherever_it_goes() {
    let cloud = Cloud::new().await;
    cloud.put("a", "one").await;
    let id = cloud.property("a", "resource-id").await.unwrap();
    assert!(id.contains("urn:uuid:"), "{id}");
    cloud.put("a", "two").await;
    cloud.move_to("MOVE", "a", "b", "F").await;
    assert_eq!(cloud.property("b", "resource-id").await, Some(id.clone()));
    cloud.move_to("COPY", "b", "c", "F").await;
    assert_ne!(cloud.property("c", "resource-id").await, Some(id));
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_are_told_since_a_token() {
    let cloud = Cloud::new().await;
    cloud.status("MKCOL", "d").await;
    cloud.put("d/stays", "x").await;
    cloud.put("d/goes", "x").await;
    let report = async |since: &str| {
        let body = format!(
            "<sync-collection xmlns='DAV:'><sync-token>{since}</sync-token><sync-level>infinite</sync-level><prop><getetag/></prop></sync-collection>"
        );
        let response = cloud.request("REPORT", "").body(body).send().await.unwrap();
        let status = response.status().as_u16();
        let xml = response.text().await.unwrap();
        let token = xml
            .split_once("<D:sync-token>")
            .and_then(|(_, rest)| rest.split_once('<'))
            .map(|(token, _)| token.to_owned())
            .unwrap_or_default();
        let mut said: Vec<String> = xml
            .split("<D:href>")
            .skip(1)
            .map(|part| {
                let gone = part.contains("404 Not Found");
                format!(
                    "{}{}",
                    part.split_once('<').unwrap().0,
                    if gone { " gone" } else { "" }
                )
            })
            .collect();
        said.sort();
        (status, said, token)
    };
    let (status, said, token) = report("").await;
    assert_eq!((status, said.len()), (207, 3), "{said:?}");
    assert_eq!(cloud.property("", "sync-token").await, Some(token.clone()));
    assert_eq!(report(&token).await, (207, Vec::new(), token.clone()));
    cloud.status("DELETE", "d/goes").await;
    fs::write(cloud.file("d/by hand"), "x").unwrap();
    cloud.put("d/stays", "changed").await;
    let (_, said, _) = report(&token).await;
    assert_eq!(said, ["/d/by%20hand", "/d/goes gone", "/d/stays"]);
    assert_eq!(report("urn:nonsense").await.0, 403);
    cloud.fault(&["without=changes"]);
    assert_eq!(report("").await.0, 405);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_range_is_put_into_a_file() {
    let cloud = Cloud::new().await;
    cloud.put("a", "0123456789").await;
    let tag = cloud.tag("a").await;
    let part = async |range: &str, body: &str| {
        let request = cloud.request("PUT", "a").header("content-range", range);
        code(request.body(body.to_owned())).await
    };
    assert_eq!(part("bytes 3-5/10", "abc").await, 204);
    assert_eq!(fs::read(cloud.file("a")).unwrap(), b"012abc6789");
    assert_ne!(cloud.tag("a").await, tag);
    assert_eq!(part("bytes 10-11/*", "XY").await, 204, "appended");
    assert_eq!(fs::read(cloud.file("a")).unwrap(), b"012abc6789XY");
    assert_eq!(part("bytes 50-51/*", "XY").await, 400, "a hole");
    assert_eq!(part("bytes x", "XY").await, 400);
    cloud.fault(&["without=partial-put"]);
    assert_eq!(part("bytes 0-1/*", "XY").await, 501);
    cloud.fault(&["partial-put-keeps-part"]);
    assert_eq!(part("bytes 0-1/*", "XY").await, 201);
    assert_eq!(
        fs::read(cloud.file("a")).unwrap(),
        b"XY",
        "as some servers do"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_lets_a_program_in_with_a_second_step() {
    let cloud = office(|config| config).await;
    let base = cloud.running.url();
    let control = cloud.running.control().unwrap().to_owned();
    let direct = cloud.http.get(&base).basic_auth("bela", Some("b")).send();
    let direct = direct.await.unwrap();
    assert_eq!(direct.status().as_u16(), 401);
    assert!(direct.text().await.unwrap().contains("app password"));
    let well_known = format!("{base}.well-known/oauth-authorization-server");
    let found: String = cloud
        .http
        .get(well_known)
        .send()
        .await
        .unwrap()
        .text()
        .await
        .unwrap();
    let field = |json: &str, name: &str| {
        let value: serde_json::Value = serde_json::from_str(json).unwrap();
        value[name].as_str().unwrap_or_default().to_owned()
    };
    let post = async |url: &str, form: &str| {
        let request = cloud
            .http
            .post(url)
            .header("content-type", "application/x-www-form-urlencoded")
            .body(form.to_owned());
        let response = request.send().await.unwrap();
        (response.status().as_u16(), response.text().await.unwrap())
    };
    let (_, asked) = post(
        &field(&found, "device_authorization_endpoint"),
        "client_id=x",
    )
    .await;
    let page = field(&asked, "verification_uri");
    let shown = cloud
        .http
        .get(field(&asked, "verification_uri_complete"))
        .send();
    let user_code = field(&asked, "user_code");
    assert!(
        shown
            .await
            .unwrap()
            .text()
            .await
            .unwrap()
            .contains(&user_code)
    );
    let phone = cloud
        .http
        .get(format!("{control}phone/bela"))
        .send()
        .await
        .unwrap();
    let phone = phone.text().await.unwrap();
    let wrong = format!("code={user_code}&user=bela&password=b&one-time-code=");
    assert_eq!(post(&page, &wrong).await.0, 403);
    let (status, _) = post(&page, &format!("{wrong}{}", phone.trim())).await;
    assert_eq!(status, 200);
    let poll = format!(
        "grant_type=urn%3Aietf%3Aparams%3Aoauth%3Agrant-type%3Adevice_code&device_code={}",
        field(&asked, "device_code")
    );
    let (status, tokens) = post(&field(&found, "token_endpoint"), &poll).await;
    assert_eq!(status, 200, "{tokens}");
    let access = field(&tokens, "access_token");
    let listed = async || {
        let request = cloud
            .http
            .request(Method::from_bytes(b"PROPFIND").unwrap(), &base);
        code(request.bearer_auth(&access)).await
    };
    assert_eq!(listed().await, 207);
    let gone = cloud
        .http
        .delete(format!("{control}tokens/bela"))
        .send()
        .await
        .unwrap();
    assert_eq!(gone.status().as_u16(), 204);
    assert_eq!(listed().await, 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_control_address_changes_the_faults() {
    let cloud = office(|config| config).await;
    let control = cloud.running.control().unwrap().to_owned();
    let set = async |faults: &str| {
        let url = format!("{control}faults");
        code(cloud.http.put(url).body(faults.to_owned())).await
    };
    assert_eq!(set("busy=1\nhide-dots\n").await, 204);
    let state = cloud
        .http
        .get(&control)
        .send()
        .await
        .unwrap()
        .text()
        .await
        .unwrap();
    assert!(state.contains("[\"busy=1\",\"hide-dots\"]"), "{state}");
    assert_eq!(cloud.status("GET", "").await, 503);
    assert_eq!(set("teapot").await, 400);
    assert_eq!(set("").await, 204);
    assert_eq!(cloud.status("GET", "").await, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_gets_a_page_of_a_folder() {
    let cloud = Cloud::new().await;
    cloud.status("MKCOL", "d").await;
    cloud.put("d/a%26b%3C.txt", "12345").await;
    let page = cloud.request("GET", "d/").send().await.unwrap();
    assert_eq!(page.headers()["content-type"], "text/html; charset=utf-8");
    let text = page.text().await.unwrap();
    assert!(
        text.contains("a&amp;b&lt;.txt")
            && text.contains("/d/a%26b%3C.txt")
            && text.contains("5 B"),
        "{text}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn it_speaks_tls_by_an_authority_of_its_own_that_it_keeps() {
    let cloud = office(|config| Config {
        tls: true,
        ..config
    })
    .await;
    let authority = cloud.running.authority().unwrap().to_owned();
    let pem = fs::read(&authority).unwrap();
    let trusting = Client::builder()
        .tls_certs_only([reqwest::Certificate::from_pem(&pem).unwrap()])
        .build()
        .unwrap();
    let url = cloud.running.url();
    assert!(url.starts_with("https://"));
    assert_eq!(
        code(trusting.get(&url).basic_auth("ada", Some("a"))).await,
        200
    );
    assert!(
        cloud.http.get(&url).send().await.is_err(),
        "nobody else trusts it"
    );
    let again = start(Config {
        tls: true,
        ..Config::new(&cloud.dir.path().join("data"))
    });
    again.await.unwrap();
    assert_eq!(fs::read(&authority).unwrap(), pem);
}

#[tokio::test(flavor = "multi_thread")]
async fn each_kind_of_odd_server_can_be_had() {
    let cloud = Cloud::new().await;
    cloud.put("a", "12345").await;
    cloud.put("b", "12345").await;
    for (fault, method, status) in [
        ("too-many=1", "GET", 429),
        ("locked=1", "PUT", 423),
        ("html", "PROPFIND", 200),
        ("redirect=loop", "PROPFIND", 307),
        ("without=infinity", "PROPFIND", 403),
        ("without=properties", "PROPPATCH", 405),
        ("without=locks", "LOCK", 405),
    ] {
        cloud.fault(&[fault]);
        assert_eq!(cloud.status(method, "a").await, status, "{fault}");
    }
    let get = async || cloud.request("GET", "a").send().await.unwrap();
    cloud.fault(&["tags=missing"]);
    assert!(!get().await.headers().contains_key("etag"));
    cloud.fault(&["tags=late"]);
    let late = get().await.headers()["etag"].to_str().unwrap().to_owned();
    cloud.fault(&[]);
    assert_eq!(late, format!("W/{}", cloud.tag("a").await));
    cloud.fault(&["tags=coarse"]);
    let coarse = cloud.tag("a").await;
    assert!(coarse.ends_with("-5\""), "{coarse}");
    cloud.fault(&["wrong-length=1"]);
    assert_eq!(get().await.text().await.unwrap(), "1234");
    cloud.fault(&["slow=20"]);
    let began = std::time::Instant::now();
    get().await.text().await.unwrap();
    assert!(began.elapsed().as_millis() >= 200);
    cloud.fault(&["short-listing=1"]);
    assert_eq!(
        cloud
            .listing("", "1")
            .await
            .1
            .matches("<D:response>")
            .count(),
        2
    );
    cloud.fault(&["clock=86400"]);
    let date = get().await.headers()["date"].to_str().unwrap().to_owned();
    cloud.fault(&[]);
    assert_ne!(
        date[..16],
        get().await.headers()["date"].to_str().unwrap()[..16]
    );
    cloud.fault(&["no-conditions"]);
    let put = cloud.request("PUT", "a").header("if-none-match", "*");
    assert_eq!(code(put.body("x")).await, 204);
    cloud.fault(&["no-overwrite-check"]);
    assert_eq!(cloud.move_to("MOVE", "a", "b", "F").await, 204);
    cloud.put("a", "x").await;
    cloud.put("c", "y").await;
    cloud.fault(&["racing-moves"]);
    let (one, other) = tokio::join!(
        cloud.move_to("MOVE", "a", "new", "F"),
        cloud.move_to("MOVE", "c", "new", "F")
    );
    let mut both = [one, other];
    both.sort_unstable();
    assert_eq!(both, [201, 204], "both won");
    cloud.fault(&["strict-slashes"]);
    cloud.status("MKCOL", "folder").await;
    assert_eq!(cloud.move_to("MOVE", "folder", "moved", "F").await, 400);
    assert_eq!(cloud.move_to("MOVE", "folder/", "moved/", "F").await, 201);
    for (fault, sign) in [
        ("xml=entities", "<!ENTITY"),
        ("xml=nested", "<D:x><D:x>"),
        ("xml=encoding", "iso-8859-1"),
    ] {
        cloud.fault(&[fault]);
        assert!(cloud.listing("", "1").await.1.contains(sign), "{fault}");
    }
    cloud.fault(&["xml=cut"]);
    assert!(!cloud.listing("", "1").await.1.contains("</D:multistatus>"));
}
