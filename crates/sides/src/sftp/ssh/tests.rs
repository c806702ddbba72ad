use super::super::host_check::judge;
use super::super::known_hosts::KnownKey;
use super::super::sign_in::{is_locked, opens};
use super::*;
use crate::secret::Secret;
use std::borrow::Cow as Text;
use std::path::Path;

use crate::host_key;
use russh::MethodKind;
use russh::keys::Algorithm;
use russh::keys::{PrivateKey, PublicKey};
use russh::server::{self, Auth, Response};
use tokio::net::TcpListener;

fn known(revoked: bool, kind: &str, blob: &[u8]) -> KnownKey {
    KnownKey {
        revoked,
        kind: kind.into(),
        blob: blob.into(),
        at: "known_hosts, line 1".into(),
    }
}

#[test]
fn only_a_pinned_or_known_key_is_trusted() {
    let shown = HostKey::of("files.example", "ssh-ed25519", b"key");
    let judged = |trust: &Trust, known: &[KnownKey]| judge(trust, known, &shown, b"key");
    let pinned = Trust::HostKey(shown.sha256);
    assert!(judged(&pinned, &[]).is_ok());
    assert!(
        judged(
            &Trust::HostKey([0; 32]),
            &[known(false, "ssh-ed25519", b"key")]
        )
        .is_err()
    );
    assert!(judged(&Trust::System, &[known(false, "ssh-ed25519", b"key")]).is_ok());
    // Unknown, changed, known by a key of another kind, revoked: each is turned away, and told apart.
    assert!(!judged(&Trust::System, &[]).unwrap_err().1);
    for other in ["ssh-ed25519", "ssh-rsa"] {
        assert!(
            judged(&Trust::System, &[known(false, other, b"other")])
                .unwrap_err()
                .1
        );
    }
    let revoked = [known(true, "ssh-ed25519", b"key")];
    assert!(judged(&pinned, &revoked).unwrap_err().0.contains("revoked"));
}

#[test]
fn a_host_is_asked_for_the_key_that_it_is_known_by() {
    let order = in_order(&[known(false, "ssh-rsa", b"key")], &[]);
    assert!(order[0].clone().is_rsa(), "{order:?}");
    let order = in_order(&[], &["ecdsa"]);
    assert!(matches!(order[0], Algorithm::Ecdsa { .. }), "{order:?}");
    assert_eq!(in_order(&[], &[]), Preferred::DEFAULT.key.to_vec());
}

/// What a server in this program wants from whoever signs in as `ada`.
#[derive(Clone, Copy)]
enum Wants {
    Password,
    /// The password as an answer, and then a number that is never the same.
    Questions,
    Key,
    /// A key, and then the number.
    KeyAndNumber,
}

#[derive(Clone)]
struct Door {
    wants: Wants,
    key: Option<PublicKey>,
    /// How many questions were answered right.
    answered: usize,
}

const NUMBER: &str = "314159";

impl Door {
    fn asks(&self, prompt: &'static str) -> Auth {
        Auth::Partial {
            name: "".into(),
            instructions: "".into(),
            prompts: Text::Owned(vec![(prompt.into(), false)]),
        }
    }

    fn is_for(&self, methods: &[MethodKind], partial_success: bool) -> Auth {
        Auth::Reject {
            proceed_with_methods: Some(methods.into()),
            partial_success,
        }
    }

    fn offered(&self) -> Auth {
        let methods: &[MethodKind] = match self.wants {
            Wants::Password => &[MethodKind::Password],
            Wants::Questions => &[MethodKind::KeyboardInteractive],
            Wants::Key | Wants::KeyAndNumber => &[MethodKind::PublicKey],
        };
        self.is_for(methods, false)
    }
}

impl server::Handler for Door {
    type Error = russh::Error;

    async fn auth_none(&mut self, _: &str) -> Result<Auth, russh::Error> {
        Ok(self.offered())
    }

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, russh::Error> {
        Ok(match (user, password) {
            ("ada", "secret") => Auth::Accept,
            _ => self.offered(),
        })
    }

    async fn auth_publickey(
        &mut self,
        _: &str,
        shown: server::VerifiedPublicKey<'_>,
    ) -> Result<Auth, russh::Error> {
        Ok(
            match (self.key.as_ref() == Some(shown.public_key), self.wants) {
                (true, Wants::KeyAndNumber) => {
                    self.is_for(&[MethodKind::KeyboardInteractive], true)
                }
                (true, _) => Auth::Accept,
                (false, _) => self.offered(),
            },
        )
    }

    async fn auth_keyboard_interactive<'a>(
        &'a mut self,
        _: &str,
        _: &str,
        response: Option<Response<'a>>,
    ) -> Result<Auth, russh::Error> {
        let wanted: &[&str] = match self.wants {
            Wants::Questions => &["secret", NUMBER],
            Wants::KeyAndNumber => &[NUMBER],
            Wants::Password | Wants::Key => &[],
        };
        if let Some(answer) = response.and_then(|mut answers| answers.next()) {
            match wanted.get(self.answered) {
                Some(right) if answer == right.as_bytes() => self.answered += 1,
                _ => return Ok(self.offered()),
            }
        }
        Ok(match wanted.get(self.answered) {
            None => Auth::Accept,
            Some(&NUMBER) => self.asks("Number on your device: "),
            Some(_) => self.asks("Password: "),
        })
    }
}

/// A server on loopback: its port, and the SHA-256 of its key.
async fn opened(wants: Wants, key: Option<PublicKey>) -> (u16, [u8; 32]) {
    let host_key = new_key();
    let blob = host_key.public_key().to_bytes().unwrap();
    let sha256 = HostKey::of("", "", &blob).sha256;
    let config = Arc::new(server::Config {
        keys: vec![host_key],
        auth_rejection_time: Duration::ZERO,
        ..server::Config::default()
    });
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let door = Door {
                wants,
                key: key.clone(),
                answered: 0,
            };
            let session = server::run_stream(Arc::clone(&config), stream, door);
            tokio::spawn(async move {
                if let Ok(session) = session.await {
                    // However it ends, the other side tells.
                    let _ = session.await;
                }
            });
        }
    });
    (port, sha256)
}

fn new_key() -> PrivateKey {
    PrivateKey::random(&mut russh::keys::key::safe_rng(), Algorithm::Ed25519).unwrap()
}

async fn enters(
    (port, trust): (u16, &Trust),
    way: &WayIn,
    ask: Option<&AskStep>,
) -> Result<(), SideError> {
    let goal = Goal {
        host: "127.0.0.1",
        port: Some(port),
        user: "ada",
        way: Some(way),
        trust,
        patience: Duration::from_secs(20),
        ask,
    };
    connect(&goal).await.map(drop)
}

fn password(text: &str) -> WayIn {
    WayIn::Password(Secret::new(text.into()))
}

fn is_refused(result: &Result<(), SideError>, why: &str) -> bool {
    matches!(result, Err(SideError::Refused(_))) && format!("{result:?}").contains(why)
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_signs_in_at_a_host_that_is_not_trusted() {
    let (port, sha256) = opened(Wants::Password, None).await;
    let way = password("secret");
    assert_eq!(
        enters((port, &Trust::HostKey(sha256)), &way, None).await,
        Ok(())
    );
    for (trust, known) in [(Trust::HostKey([7; 32]), true), (Trust::System, false)] {
        let Err(SideError::Untrusted(distrust)) = enters((port, &trust), &way, None).await else {
            panic!("{trust:?} must not do");
        };
        assert_eq!(distrust.other_was_known, known);
        assert_eq!(distrust.shown.pin(), host_key::pin(&sha256));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_is_given_once_and_further_questions_go_to_a_person() {
    let (port, sha256) = opened(Wants::Password, None).await;
    let trust = Trust::HostKey(sha256);
    let wrong = enters((port, &trust), &password("guess"), None).await;
    assert!(is_refused(&wrong, "with this password"), "{wrong:?}");
    let key = WayIn::Key {
        file: "/no/such/key".into(),
        passphrase: None,
    };
    let none = enters((port, &trust), &key, None).await;
    assert!(is_refused(&none, "/no/such/key"), "{none:?}");

    let (port, sha256) = opened(Wants::Questions, None).await;
    let trust = Trust::HostKey(sha256);
    let alone = enters((port, &trust), &password("secret"), None).await;
    assert!(is_refused(&alone, "Number on your device"), "{alone:?}");
    let person: AskStep = Arc::new(|question| {
        assert_eq!(question, "Number on your device:");
        Some(Secret::new(NUMBER.into()))
    });
    let way = password("secret");
    assert_eq!(enters((port, &trust), &way, Some(&person)).await, Ok(()));
    let forgets: AskStep = Arc::new(|_| Some(Secret::new("0".into())));
    let wrong = enters((port, &trust), &way, Some(&forgets)).await;
    assert!(is_refused(&wrong, "answered at sign-in"), "{wrong:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_lets_in_by_itself_or_with_what_the_server_asks_besides() {
    let folder = tempfile::tempdir().unwrap();
    let key = new_key();
    let public = key.public_key().clone();
    let file = folder.path().join("key");
    let ending = russh::keys::ssh_key::LineEnding::LF;
    std::fs::write(&file, key.to_openssh(ending).unwrap().as_bytes()).unwrap();
    let locked = folder.path().join("locked");
    let mut rng = russh::keys::key::safe_rng();
    let encrypted = key.encrypt(&mut rng, "open sesame").unwrap();
    std::fs::write(&locked, encrypted.to_openssh(ending).unwrap().as_bytes()).unwrap();
    use std::os::unix::fs::PermissionsExt as _;
    let others_may_read = |file: &Path, may: bool| {
        let mode = if may { 0o644 } else { 0o600 };
        std::fs::set_permissions(file, std::fs::Permissions::from_mode(mode)).unwrap();
    };
    others_may_read(&file, true);
    others_may_read(&locked, false);
    let open = is_locked(&file);
    assert!(matches!(open, Err(SideError::Refused(_))), "{open:?}");
    others_may_read(&file, false);
    assert_eq!(is_locked(&file), Ok(false));
    assert_eq!(is_locked(&locked), Ok(true));
    let way = |file: &Path, passphrase: Option<&str>| WayIn::Key {
        file: file.to_owned(),
        passphrase: passphrase.map(|text| Secret::new(text.into())),
    };

    let (port, sha256) = opened(Wants::Key, Some(public.clone())).await;
    let trust = Trust::HostKey(sha256);
    assert_eq!(
        enters((port, &trust), &way(&file, None), None).await,
        Ok(())
    );
    let unlocked = way(&locked, Some("open sesame"));
    assert_eq!(enters((port, &trust), &unlocked, None).await, Ok(()));
    let wrong = enters((port, &trust), &way(&locked, Some("open")), None).await;
    assert!(is_refused(&wrong, "cannot be used"), "{wrong:?}");
    assert!(opens(&locked, &Secret::new("open sesame".into())));
    assert!(!opens(&locked, &Secret::new("open".into())));
    let by_password = enters((port, &trust), &password("secret"), None).await;
    assert!(
        is_refused(&by_password, "takes no password; it takes a key"),
        "{by_password:?}"
    );
    let (port, sha256) = opened(Wants::Key, None).await;
    let stranger = enters((port, &Trust::HostKey(sha256)), &way(&file, None), None).await;
    assert!(is_refused(&stranger, "does not let ada in"), "{stranger:?}");

    let (port, sha256) = opened(Wants::KeyAndNumber, Some(public)).await;
    let trust = Trust::HostKey(sha256);
    let alone = enters((port, &trust), &way(&file, None), None).await;
    assert!(is_refused(&alone, "Number on your device"), "{alone:?}");
    let person: AskStep = Arc::new(|_| Some(Secret::new(NUMBER.into())));
    let both = enters((port, &trust), &way(&file, None), Some(&person)).await;
    assert_eq!(both, Ok(()));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_host_of_ssh_is_told() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let said = b"HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n";
            // Whoever knocks has gone already, or reads it.
            let _ = tokio::io::AsyncWriteExt::write_all(&mut stream, said).await;
        }
    });
    let trust = Trust::System;
    let web = enters((port, &trust), &password("secret"), None).await;
    assert!(matches!(&web, Err(SideError::NotThere(_))), "{web:?}");
    let nobody = enters((1, &trust), &password("secret"), None).await;
    assert!(matches!(&nobody, Err(SideError::NotThere(_))), "{nobody:?}");
}
