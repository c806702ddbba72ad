//! Who makes a request: Basic (RFC 7617), or a bearer token (RFC 6750) that the device grant gave.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

use crate::device_grant::Grant;
use crate::people::User;

/// How a sign-in ended.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum SignedIn {
    As(String),
    /// The password is right, and is not enough.
    SecondStep,
    Not,
}

/// Reads an `Authorization` header.
pub(crate) fn signed_in(users: &[User], grant: &Grant, header: Option<&str>) -> SignedIn {
    let Some((scheme, sent)) = header.and_then(|header| header.split_once(' ')) else {
        return SignedIn::Not;
    };
    if scheme.eq_ignore_ascii_case("bearer") {
        return match grant.user_of(sent.trim()) {
            Some(user) if users.iter().any(|known| known.name == user) => SignedIn::As(user),
            _ => SignedIn::Not,
        };
    }
    basic(users, scheme, sent).unwrap_or(SignedIn::Not)
}

fn basic(users: &[User], scheme: &str, sent: &str) -> Option<SignedIn> {
    if !scheme.eq_ignore_ascii_case("basic") {
        return None;
    }
    let sent = String::from_utf8(STANDARD.decode(sent.trim()).ok()?).ok()?;
    let (name, password) = sent.split_once(':')?;
    let user = users.iter().find(|user| user.name == name)?;
    let app_password = user.app_passwords.iter().any(|known| known == password);
    if app_password || user.password == password && !user.second_step {
        return Some(SignedIn::As(user.name.clone()));
    }
    (user.password == password).then_some(SignedIn::SecondStep)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device_grant::GrantConfig;

    #[test]
    fn only_the_right_password_signs_in() {
        let dir = tempfile::tempdir().unwrap();
        let grant = Grant::new(GrantConfig::default(), dir.path().join("tokens"));
        let users = [
            User::new("librarian", "se:cret").unwrap(),
            User::new("ada", "main")
                .unwrap()
                .with_second_step()
                .with_app_password("app"),
        ];
        let basic = |text: &str| {
            let header = format!("basic {}", STANDARD.encode(text));
            signed_in(&users, &grant, Some(&header))
        };
        assert_eq!(basic("librarian:se:cret"), SignedIn::As("librarian".into()));
        assert_eq!(basic("librarian:secret"), SignedIn::Not);
        assert_eq!(basic("nobody:x"), SignedIn::Not);
        assert_eq!(basic("ada:main"), SignedIn::SecondStep);
        assert_eq!(basic("ada:app"), SignedIn::As("ada".into()));
        assert_eq!(signed_in(&users, &grant, Some("Bearer x")), SignedIn::Not);
        assert_eq!(signed_in(&users, &grant, None), SignedIn::Not);
    }
}
