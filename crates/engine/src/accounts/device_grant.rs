//! Signing in by the OAuth 2.0 device grant (RFC 8628): the program shows a code, the person types it on any device.
//!
//! The program never sees the password, and no browser is needed where it runs.

use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use url::Url;

use katabatic_core::words::acts;
use katabatic_sides::SideError;
use katabatic_sides::net::{Http, Line, innermost, is_loopback};
use katabatic_sides::secret::Secret;
use katabatic_sides::side_error::Refusal;
use katabatic_sides::stop::Stop;

/// The name under which this program asks, where the account gives no other.
pub const CLIENT_ID: &str = "katabatic";

/// RFC 8628 §3.5: so much longer between two questions where the server says `slow_down`.
const SLOWER: Duration = Duration::from_secs(5);

/// A code that is to be typed within no time at all, or in a week, is a server's mistake.
const LONGEST: Duration = Duration::from_secs(3600);

/// A server that wants to be asked without a pause does not know what it says.
const SHORTEST: Duration = Duration::from_secs(1);

/// What the server offers (RFC 8414 §2, RFC 8628 §4).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Endpoints {
    pub(crate) device: Url,
    pub(crate) token: Url,
    pub(crate) revocation: Option<Url>,
}

#[derive(Deserialize)]
struct Metadata {
    issuer: String,
    device_authorization_endpoint: Option<String>,
    token_endpoint: Option<String>,
    revocation_endpoint: Option<String>,
}

/// What the person is to do.
#[derive(Clone, Debug)]
pub struct Code {
    /// The address to open, on any device.
    pub address: String,
    /// The same with the code in it, where the server gives one.
    pub address_with_code: Option<String>,
    /// The code to type.
    pub code: String,
    /// For how long it can be typed.
    pub lasts: Duration,
    device: Secret,
    interval: Duration,
}

#[derive(Deserialize)]
struct DeviceAnswer {
    device_code: String,
    user_code: String,
    verification_uri: String,
    verification_uri_complete: Option<String>,
    expires_in: u64,
    interval: Option<u64>,
}

/// Tokens, as they are kept with the secrets.
#[derive(Clone, Serialize, Deserialize)]
pub struct Tokens {
    pub(crate) access: String,
    pub(crate) refresh: Option<String>,
    /// Until when the access token is good, in seconds since 1970.
    pub(crate) until: i64,
    /// Where it is renewed.
    pub(crate) token_endpoint: Url,
    pub(crate) revocation_endpoint: Option<Url>,
    pub(crate) client_id: String,
}

impl std::fmt::Debug for Tokens {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str("Tokens(…)")
    }
}

impl Tokens {
    /// As a secret to keep.
    #[must_use]
    pub fn to_secret(&self) -> Secret {
        Secret::new(serde_json::to_string(self).unwrap_or_default())
    }

    /// From a kept secret.
    #[must_use]
    pub fn from_secret(secret: &Secret) -> Option<Tokens> {
        serde_json::from_str(secret.reveal()).ok()
    }
}

#[derive(Deserialize)]
struct TokenAnswer {
    access_token: String,
    token_type: String,
    expires_in: Option<i64>,
    refresh_token: Option<String>,
}

#[derive(Deserialize)]
struct ErrorAnswer {
    error: String,
}

/// How the person answered.
#[derive(Clone, Debug)]
pub enum Answered {
    /// The program is let in.
    Approved(Box<Tokens>),
    /// It is not.
    Refused,
    /// Nobody answered in time.
    Expired,
    /// Somebody asked to stop waiting.
    Stopped,
}

/// Asks whether the server of an address offers the device grant; none where it does not.
///
/// # Errors
/// Where the line fails, as for any request.
pub async fn discover(http: &Http, address: &Url) -> Result<Option<Endpoints>, SideError> {
    let mut well_known = address.clone();
    // RFC 8414 §3: the issuer is the server itself, so nothing of the account's path belongs here.
    well_known.set_path("/.well-known/oauth-authorization-server");
    let response = http
        .client
        .get(well_known.clone())
        .header("accept", "application/json")
        .send()
        .await
        .map_err(|error| http.line_error(address, &error))?;
    if !response.status().is_success() {
        return Ok(None);
    }
    // Many servers answer every address with some page: what is no metadata means that there is none.
    let Some(metadata) = small(response)
        .await
        .and_then(|bytes| serde_json::from_slice::<Metadata>(&bytes).ok())
    else {
        return Ok(None);
    };
    // RFC 8414 §3.3: another issuer's metadata must not be used.
    let issuer = Url::parse(&metadata.issuer).ok();
    if issuer.is_none_or(|issuer| issuer.origin() != address.origin()) {
        return Ok(None);
    }
    let endpoint = |text: Option<String>| {
        let url = Url::parse(&text?).ok()?;
        is_of_issuer(&url, address).then_some(url)
    };
    let (Some(device), Some(token)) = (
        endpoint(metadata.device_authorization_endpoint),
        endpoint(metadata.token_endpoint),
    ) else {
        return Ok(None);
    };
    Ok(Some(Endpoints {
        device,
        token,
        revocation: endpoint(metadata.revocation_endpoint),
    }))
}

/// Whether an endpoint is one that the issuer may name: on its own host, and as safe as it is itself. One on this computer
/// is asked only for accounts that are here, or a server could have us talk to whatever listens here.
fn is_of_issuer(endpoint: &Url, issuer: &Url) -> bool {
    if is_loopback(issuer) || is_loopback(endpoint) {
        return is_loopback(issuer) && is_loopback(endpoint);
    }
    let is_safe = endpoint.scheme() == "https" || endpoint.origin() == issuer.origin();
    endpoint.host_str() == issuer.host_str() && is_safe
}

/// The address that a person is to open: none that somebody on the line could change, and nothing in it that acts on what
/// shows it.
fn shown(address: &str, by: &Url) -> Option<String> {
    let url = Url::parse(address).ok()?;
    let is_safe = url.scheme() == "https" || (is_loopback(&url) && is_loopback(by));
    let is_clean = !address.chars().any(|c| acts(c) || c.is_whitespace());
    let names_nobody = url.username().is_empty() && url.password().is_none();
    (is_safe && is_clean && names_nobody).then(|| address.to_owned())
}

/// An answer's body; nothing these endpoints say is long.
async fn small(mut response: reqwest::Response) -> Option<Vec<u8>> {
    let mut whole = Vec::new();
    while let Some(chunk) = response.chunk().await.ok()? {
        whole.extend_from_slice(&chunk);
        if whole.len() > 1 << 16 {
            return None;
        }
    }
    Some(whole)
}

/// A grant that is being asked for.
pub struct Grant {
    http: Http,
    endpoints: Endpoints,
    client_id: String,
    scope: Option<String>,
}

impl Grant {
    /// One at these endpoints.
    #[must_use]
    pub fn new(http: Http, endpoints: Endpoints, client_id: &str, scope: Option<&str>) -> Grant {
        Grant {
            http,
            endpoints,
            client_id: client_id.to_owned(),
            scope: scope.map(str::to_owned),
        }
    }

    /// Asks for a code (RFC 8628 §3.1).
    ///
    /// # Errors
    /// Where the server gives none.
    pub async fn ask(&self) -> Result<Code, SideError> {
        let mut form = vec![("client_id", self.client_id.as_str())];
        if let Some(scope) = &self.scope {
            form.push(("scope", scope));
        }
        let response = self
            .http
            .client
            .post(self.endpoints.device.clone())
            .form(&form)
            .send()
            .await
            .map_err(|error| self.http.line_error(&self.endpoints.device, &error))?;
        let status = response.status();
        let bytes = small(response).await.unwrap_or_default();
        let answer: DeviceAnswer = serde_json::from_slice(&bytes).map_err(|_| {
            let why = serde_json::from_slice::<ErrorAnswer>(&bytes).map_or_else(
                |_| format!("it answered {}", status.as_u16()),
                |answer| format!("it says {}", answer.error),
            );
            SideError::refused(
                Refusal::SignIn,
                format!("the server gives no code to sign in with: {why}"),
            )
        })?;
        let by = &self.endpoints.device;
        let address = shown(&answer.verification_uri, by).ok_or_else(|| {
            SideError::refused(
                Refusal::SignIn,
                format!(
                    "the server names an address to sign in at that is not safe to open: {:?}",
                    answer.verification_uri
                ),
            )
        })?;
        let with_code = answer.verification_uri_complete;
        Ok(Code {
            address,
            address_with_code: with_code.and_then(|address| shown(&address, by)),
            code: answer.user_code,
            lasts: Duration::from_secs(answer.expires_in).min(LONGEST),
            device: Secret::new(answer.device_code),
            interval: Duration::from_secs(answer.interval.unwrap_or(5)).clamp(SHORTEST, LONGEST),
        })
    }

    /// Waits until the person has answered; `tick` hears how long is left, about once a second.
    ///
    /// # Errors
    /// Where the server ends it for another reason.
    pub async fn wait(
        &self,
        code: &Code,
        stop: &Stop,
        tick: &(dyn Fn(Duration) + Send + Sync),
    ) -> Result<Answered, SideError> {
        let until = Instant::now() + code.lasts;
        let mut interval = code.interval;
        let mut next = Instant::now() + interval;
        loop {
            let now = Instant::now();
            if stop.asked() {
                return Ok(Answered::Stopped);
            }
            if now >= until {
                return Ok(Answered::Expired);
            }
            tick(until - now);
            if now < next {
                tokio::time::sleep((next - now).min(Duration::from_secs(1))).await;
                continue;
            }
            let form = [
                ("grant_type", "urn:ietf:params:oauth:grant-type:device_code"),
                ("device_code", code.device.reveal()),
                ("client_id", self.client_id.as_str()),
            ];
            match self.token(&form).await {
                Ok(Ok(tokens)) => return Ok(Answered::Approved(Box::new(tokens))),
                Ok(Err(error)) => match error.as_str() {
                    "authorization_pending" => {}
                    "slow_down" => interval += SLOWER,
                    "access_denied" => return Ok(Answered::Refused),
                    "expired_token" => return Ok(Answered::Expired),
                    other => {
                        return Err(SideError::refused(
                            Refusal::SignIn,
                            format!("the server ended the sign-in: {other}"),
                        ));
                    }
                },
                // RFC 8628 §3.5: after a line that failed, ask less often.
                Err(SideError::TryAgain(why)) => {
                    tracing::debug!("asking whether the code was typed: {why}");
                    interval *= 2;
                }
                Err(error) => return Err(error),
            }
            next = Instant::now() + interval;
        }
    }

    /// Asks the token endpoint; the inner error is the server's own word.
    async fn token(&self, form: &[(&str, &str)]) -> Result<Result<Tokens, String>, SideError> {
        let asked = ask_token(&self.http, &self.endpoints.token, form).await?;
        Ok(asked.map(|answer| Tokens {
            access: answer.access_token,
            refresh: answer.refresh_token,
            until: until(answer.expires_in),
            token_endpoint: self.endpoints.token.clone(),
            revocation_endpoint: self.endpoints.revocation.clone(),
            client_id: self.client_id.clone(),
        }))
    }
}

fn until(expires_in: Option<i64>) -> i64 {
    // RFC 6749 §5.1: a server that does not say how long means as long as it likes; a refusal will tell.
    jiff::Timestamp::now()
        .as_second()
        .saturating_add(expires_in.unwrap_or(i64::from(u32::MAX)))
}

async fn ask_token(
    http: &Http,
    endpoint: &Url,
    form: &[(&str, &str)],
) -> Result<Result<TokenAnswer, String>, SideError> {
    let response = http
        .client
        .post(endpoint.clone())
        .form(form)
        .send()
        .await
        .map_err(|error| http.line_error(endpoint, &error))?;
    let status = response.status();
    if status.is_server_error() || status.as_u16() == 429 {
        return Err(SideError::try_again(format!(
            "the server answered {}",
            status.as_u16()
        )));
    }
    let Some(bytes) = small(response).await else {
        return Err(SideError::try_again("the answer did not arrive whole"));
    };
    if let Ok(answer) = serde_json::from_slice::<TokenAnswer>(&bytes) {
        // RFC 6749 §7.1: a token of a kind that is not understood must not be used.
        if answer.token_type.eq_ignore_ascii_case("bearer") {
            return Ok(Ok(answer));
        }
        return Ok(Err(format!("tokens of the kind {}", answer.token_type)));
    }
    Ok(Err(serde_json::from_slice::<ErrorAnswer>(&bytes)
        .map_or_else(
            |_| format!("an answer that is no token ({})", status.as_u16()),
            |answer| answer.error,
        )))
}

/// Renews tokens (RFC 6749 §6).
///
/// # Errors
/// [`SideError::Refused`] where the server does not give new ones: somebody has to sign in again.
pub(crate) async fn renew(line: &Line, tokens: &Tokens) -> Result<Tokens, SideError> {
    let gone = |why: &str| {
        SideError::refused(
            Refusal::SignIn,
            format!("the sign-in is no longer good ({why}); somebody has to sign in again"),
        )
    };
    let Some(refresh) = &tokens.refresh else {
        return Err(gone("it has expired, and cannot be renewed"));
    };
    let http = line
        .http(&tokens.token_endpoint)
        .map_err(SideError::Failed)?;
    let form = [
        ("grant_type", "refresh_token"),
        ("refresh_token", refresh.as_str()),
        ("client_id", tokens.client_id.as_str()),
    ];
    let answer = ask_token(&http, &tokens.token_endpoint, &form)
        .await?
        .map_err(|error| gone(&error))?;
    Ok(Tokens {
        access: answer.access_token,
        // RFC 6749 §6: without a new one, the old one goes on.
        refresh: answer.refresh_token.or_else(|| tokens.refresh.clone()),
        until: until(answer.expires_in),
        ..tokens.clone()
    })
}

/// Tells the server that tokens are not needed any more (RFC 7009); what it makes of that is its own business.
pub(crate) async fn revoke(line: &Line, tokens: &Tokens) {
    let Some(endpoint) = &tokens.revocation_endpoint else {
        return;
    };
    let Ok(http) = line.http(endpoint) else {
        return;
    };
    for token in std::iter::once(&tokens.access).chain(&tokens.refresh) {
        let form = [("token", token.as_str()), ("client_id", &tokens.client_id)];
        if let Err(error) = http.client.post(endpoint.clone()).form(&form).send().await {
            tracing::debug!("signing out at the server: {}", innermost(&error));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn url(text: &str) -> Url {
        Url::parse(text).unwrap()
    }

    #[test]
    fn endpoints_are_the_issuers_own() {
        let issuer = url("https://cloud.example/");
        for own in [
            "https://cloud.example/token",
            "https://cloud.example:8443/token",
        ] {
            assert!(is_of_issuer(&url(own), &issuer), "{own}");
        }
        for other in [
            "http://cloud.example/token",
            "https://elsewhere.example/token",
            "https://cloud.example.elsewhere.example/token",
            "http://127.0.0.1:631/token",
            "https://localhost/token",
            "http://[::1]/token",
        ] {
            assert!(!is_of_issuer(&url(other), &issuer), "{other}");
        }
        let here = url("http://127.0.0.1:8080/");
        assert!(is_of_issuer(&url("http://127.0.0.1:8080/token"), &here));
        assert!(!is_of_issuer(&url("https://cloud.example/token"), &here));
    }

    #[test]
    fn only_a_safe_address_is_shown() {
        let by = url("https://cloud.example/device");
        assert!(shown("https://login.example/device?code=1", &by).is_some());
        for unsafe_one in [
            "http://login.example/device",
            "http://localhost/device",
            "javascript:alert(1)",
            "https://login.example/\u{1b}[2Jdevice",
            "https://login.example/\u{202e}device",
            "https://cloud.example@elsewhere.example/",
            "device",
        ] {
            assert_eq!(shown(unsafe_one, &by), None, "{unsafe_one:?}");
        }
        assert!(shown("http://localhost:1/device", &url("http://127.0.0.1/")).is_some());
    }
}
