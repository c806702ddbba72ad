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
        let http = Client::builder().tls_certs_only([]).build().unwrap();
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
