//! The OAuth 2.0 device grant (RFC 8628), found through RFC 8414 metadata: a program asks for a code, a person types it
//! on a page of any device, signs in there with a second step, and the program gets tokens (RFC 6749 §5.1, §6).

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::one_time_code;
use crate::people::User;

/// No vowels, and nothing that looks like something else: codes are read aloud over the phone.
const CODE_LETTERS: &[u8] = b"BCDFGHJKLMNPQRSTVWXZ";

/// How the grant is offered.
#[derive(Clone, Debug)]
pub struct GrantConfig {
    /// Whether it is offered at all.
    pub offered: bool,
    /// For how long a code can be typed.
    pub code_lasts: Duration,
    /// For how long an access token is good; a refresh token is good until it was used.
    pub token_lasts: Duration,
    /// How long a program must wait between two questions.
    pub interval: Duration,
}

impl Default for GrantConfig {
    fn default() -> GrantConfig {
        GrantConfig {
            offered: true,
            code_lasts: Duration::from_secs(600),
            token_lasts: Duration::from_secs(3600),
            interval: Duration::from_secs(1),
        }
    }
}

#[derive(Debug)]
struct Asked {
    user_code: String,
    until: Instant,
    /// When the program asked last.
    polled: Option<Instant>,
    answer: Answer,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Answer {
    None,
    Approved(String),
    Refused,
}

/// What is kept over a restart: who signed in where stays signed in.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Kept {
    /// Access tokens: whose, and until when (seconds since 1970).
    access: BTreeMap<String, (String, u64)>,
    /// Refresh tokens: whose.
    refresh: BTreeMap<String, String>,
    /// A refresh token that was used, and the one that was given for it: where the answer got lost, the old one may be
    /// used once more, until the new one is.
    followed: BTreeMap<String, String>,
}

#[derive(Debug)]
pub(crate) struct Grant {
    pub(crate) config: GrantConfig,
    file: PathBuf,
    inner: Mutex<(BTreeMap<String, Asked>, Kept)>,
}

fn now() -> u64 {
    SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |since| since.as_secs())
}

fn random(bytes: usize) -> Vec<u8> {
    let mut buffer = vec![0; bytes];
    let random = ring::rand::SystemRandom::new();
    // Without randomness there are no tokens, and a process without them had better not go on.
    #[expect(clippy::expect_used, reason = "as said above")]
    ring::rand::SecureRandom::fill(&random, &mut buffer).expect("the system has randomness");
    buffer
}

/// A text nobody guesses.
pub(crate) fn random_text() -> String {
    random(24)
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect()
}

fn user_code() -> String {
    let letters: String = random(8)
        .iter()
        .map(|&byte| char::from(CODE_LETTERS[usize::from(byte) % CODE_LETTERS.len()]))
        .collect();
    format!("{}-{}", &letters[..4], &letters[4..])
}

/// An answer of the token endpoint: its status, and the JSON.
pub(crate) type TokenAnswer = (u16, Value);

fn refused(error: &str) -> TokenAnswer {
    (400, json!({"error": error}))
}

impl Grant {
    pub(crate) fn new(config: GrantConfig, file: PathBuf) -> Grant {
        let kept = std::fs::read(&file)
            .ok()
            .and_then(|bytes| serde_json::from_slice(&bytes).ok())
            .unwrap_or_default();
        Grant {
            config,
            file,
            inner: Mutex::new((BTreeMap::new(), kept)),
        }
    }

    fn inner(&self) -> MutexGuard<'_, (BTreeMap<String, Asked>, Kept)> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// RFC 8414 §2.
    pub(crate) fn metadata(&self, base: &str) -> Value {
        json!({
            "issuer": base.trim_end_matches('/'),
            "device_authorization_endpoint": format!("{base}.standin/device"),
            "token_endpoint": format!("{base}.standin/token"),
            "revocation_endpoint": format!("{base}.standin/revoke"),
            "response_types_supported": [],
            "grant_types_supported": ["urn:ietf:params:oauth:grant-type:device_code", "refresh_token"],
            "token_endpoint_auth_methods_supported": ["none"],
        })
    }

    /// A program asks for a code (RFC 8628 §3.2).
    pub(crate) fn ask(&self, base: &str) -> Value {
        let (device_code, user_code) = (random_text(), user_code());
        let page = format!("{base}.standin/sign-in");
        let answer = json!({
            "device_code": device_code,
            "user_code": user_code,
            "verification_uri": page,
            "verification_uri_complete": format!("{page}?code={user_code}"),
            "expires_in": self.config.code_lasts.as_secs(),
            "interval": self.config.interval.as_secs(),
        });
        let asked = Asked {
            user_code,
            until: Instant::now() + self.config.code_lasts,
            polled: None,
            answer: Answer::None,
        };
        self.inner().0.insert(device_code, asked);
        answer
    }

    /// Whether a code of this spelling waits for somebody.
    pub(crate) fn waits(&self, typed: &str) -> bool {
        let typed = plain(typed);
        self.inner().0.values().any(|asked| {
            plain(&asked.user_code) == typed
                && asked.answer == Answer::None
                && asked.until > Instant::now()
        })
    }

    /// Somebody answered on the page.
    pub(crate) fn answer(&self, typed: &str, user: Option<&str>) -> bool {
        let typed = plain(typed);
        let mut inner = self.inner();
        let Some(asked) = inner
            .0
            .values_mut()
            .find(|asked| plain(&asked.user_code) == typed && asked.until > Instant::now())
        else {
            return false;
        };
        asked.answer = match user {
            Some(user) => Answer::Approved(user.to_owned()),
            None => Answer::Refused,
        };
        true
    }

    /// The token endpoint (RFC 8628 §3.4, RFC 6749 §6).
    pub(crate) fn token(&self, form: &BTreeMap<String, String>) -> TokenAnswer {
        match form.get("grant_type").map(String::as_str) {
            Some("urn:ietf:params:oauth:grant-type:device_code") => match form.get("device_code") {
                Some(code) => self.by_device_code(code),
                None => refused("invalid_request"),
            },
            Some("refresh_token") => match form.get("refresh_token") {
                Some(token) => self.by_refresh_token(token),
                None => refused("invalid_request"),
            },
            _ => refused("unsupported_grant_type"),
        }
    }

    fn by_device_code(&self, code: &str) -> TokenAnswer {
        let mut inner = self.inner();
        let Some(asked) = inner.0.get_mut(code) else {
            return refused("invalid_grant");
        };
        if asked.until <= Instant::now() {
            return refused("expired_token");
        }
        match asked.answer.clone() {
            Answer::Refused => refused("access_denied"),
            Answer::None => {
                // A tenth is left to clocks and scheduling.
                let too_soon = asked
                    .polled
                    .is_some_and(|at| at.elapsed() < self.config.interval * 9 / 10);
                asked.polled = Some(Instant::now());
                refused(if too_soon {
                    "slow_down"
                } else {
                    "authorization_pending"
                })
            }
            Answer::Approved(user) => {
                inner.0.remove(code);
                let (_, kept) = &mut *inner;
                self.give(kept, &user, None)
            }
        }
    }

    fn by_refresh_token(&self, token: &str) -> TokenAnswer {
        let mut inner = self.inner();
        let kept = &mut inner.1;
        let Some(user) = kept.refresh.get(token).cloned() else {
            return refused("invalid_grant");
        };
        // The new one is used: nobody needs the one before it any more.
        if let Some(before) = kept
            .followed
            .iter()
            .find(|(_, new)| *new == token)
            .map(|(old, _)| old.clone())
        {
            kept.refresh.remove(&before);
            kept.followed.remove(&before);
        }
        self.give(kept, &user, Some(token))
    }

    fn give(&self, kept: &mut Kept, user: &str, instead_of: Option<&str>) -> TokenAnswer {
        let (access, refresh) = (random_text(), random_text());
        let until = now() + self.config.token_lasts.as_secs();
        kept.access.retain(|_, (_, until)| *until > now());
        kept.access.insert(access.clone(), (user.to_owned(), until));
        kept.refresh.insert(refresh.clone(), user.to_owned());
        if let Some(old) = instead_of {
            kept.followed.insert(old.to_owned(), refresh.clone());
        }
        self.keep(kept);
        let answer = json!({
            "access_token": access,
            "token_type": "Bearer",
            "expires_in": self.config.token_lasts.as_secs(),
            "refresh_token": refresh,
        });
        (200, answer)
    }

    /// Whose access token this is.
    pub(crate) fn user_of(&self, access: &str) -> Option<String> {
        let inner = self.inner();
        let (user, until) = inner.1.access.get(access)?;
        (*until > now()).then(|| user.clone())
    }

    /// The program signs out (RFC 7009), or somebody takes all tokens of a user away.
    pub(crate) fn forget(&self, token: Option<&str>, user: Option<&str>) {
        let mut inner = self.inner();
        let kept = &mut inner.1;
        let goes = |at: &str, whose: &str| Some(at) == token || Some(whose) == user;
        kept.access.retain(|at, (whose, _)| !goes(at, whose));
        kept.refresh.retain(|at, whose| !goes(at, whose));
        self.keep(kept);
    }

    fn keep(&self, kept: &Kept) {
        // Tokens that cannot be kept are only good until a restart.
        if let Ok(text) = serde_json::to_vec(kept) {
            let _ = std::fs::write(&self.file, text);
        }
    }
}

fn plain(code: &str) -> String {
    code.chars()
        .filter(char::is_ascii_alphanumeric)
        .map(|c| c.to_ascii_uppercase())
        .collect()
}

/// The key that a user's phone shares with the server; made of what nobody outside has.
pub(crate) fn phone_key(seed: &[u8], user: &User) -> Vec<u8> {
    let key = ring::hmac::Key::new(ring::hmac::HMAC_SHA256, seed);
    ring::hmac::sign(&key, user.name.as_bytes()).as_ref()[..20].to_vec()
}

/// What the phone of a user shows now.
pub(crate) fn phone_code(seed: &[u8], user: &User) -> String {
    one_time_code::code(&phone_key(seed, user), now())
}

/// Whether somebody may sign in on the page.
pub(crate) fn may_sign_in(seed: &[u8], user: &User, password: &str, code: &str) -> bool {
    user.password == password
        && (!user.second_step || one_time_code::is_right(&phone_key(seed, user), now(), code))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn grant(config: GrantConfig) -> (tempfile::TempDir, Grant) {
        let dir = tempfile::tempdir().unwrap();
        let grant = Grant::new(config, dir.path().join("tokens.json"));
        (dir, grant)
    }

    fn form(pairs: &[(&str, &str)]) -> BTreeMap<String, String> {
        pairs
            .iter()
            .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
            .collect()
    }

    fn text(answer: &Value, name: &str) -> String {
        answer[name].as_str().unwrap_or_default().to_owned()
    }

    #[test]
    fn a_program_waits_until_somebody_answers() {
        let (_dir, grant) = grant(GrantConfig {
            interval: Duration::ZERO,
            ..GrantConfig::default()
        });
        let asked = grant.ask("http://h/");
        let device = text(&asked, "device_code");
        let poll = form(&[
            ("grant_type", "urn:ietf:params:oauth:grant-type:device_code"),
            ("device_code", &device),
        ]);
        assert_eq!(grant.token(&poll), refused("authorization_pending"));
        let typed = text(&asked, "user_code").to_lowercase().replace('-', " ");
        assert!(grant.waits(&typed) && grant.answer(&typed, Some("ada")));
        let (status, tokens) = grant.token(&poll);
        assert_eq!(status, 200);
        assert_eq!(
            grant.user_of(&text(&tokens, "access_token")),
            Some("ada".into())
        );
        assert_eq!(grant.token(&poll), refused("invalid_grant"), "once only");
        let asked = grant.ask("http://h/");
        assert!(grant.answer(&text(&asked, "user_code"), None));
        let poll = form(&[
            ("grant_type", "urn:ietf:params:oauth:grant-type:device_code"),
            ("device_code", &text(&asked, "device_code")),
        ]);
        assert_eq!(grant.token(&poll), refused("access_denied"));
    }

    #[test]
    fn a_refresh_token_works_until_its_follower_was_used() {
        let (dir, grant) = grant(GrantConfig::default());
        let (_, tokens) = grant.give(&mut grant.inner().1, "ada", None);
        let first = text(&tokens, "refresh_token");
        let refresh =
            |token: &str| form(&[("grant_type", "refresh_token"), ("refresh_token", token)]);
        let lost = grant.token(&refresh(&first));
        assert_eq!(lost.0, 200);
        let (status, tokens) = grant.token(&refresh(&first));
        assert_eq!(status, 200, "the answer before may have got lost");
        let second = text(&tokens, "refresh_token");
        let again = Grant::new(GrantConfig::default(), dir.path().join("tokens.json"));
        assert_eq!(
            again.token(&refresh(&second)).0,
            200,
            "a restart forgets nothing"
        );
        assert_eq!(again.token(&refresh(&first)), refused("invalid_grant"));
        again.forget(None, Some("ada"));
        assert_eq!(again.user_of(&text(&tokens, "access_token")), None);
    }

    #[test]
    fn who_asks_too_often_is_told() {
        let (_dir, grant) = grant(GrantConfig {
            interval: Duration::from_secs(60),
            code_lasts: Duration::from_secs(1),
            ..GrantConfig::default()
        });
        let asked = grant.ask("http://h/");
        let poll = form(&[
            ("grant_type", "urn:ietf:params:oauth:grant-type:device_code"),
            ("device_code", &text(&asked, "device_code")),
        ]);
        assert_eq!(grant.token(&poll), refused("authorization_pending"));
        assert_eq!(grant.token(&poll), refused("slow_down"));
        std::thread::sleep(Duration::from_millis(1100));
        assert_eq!(grant.token(&poll), refused("expired_token"));
    }
}
