//! What must hold around a computer for a lane to run by itself: the network, the power.
//!
//! What cannot be told does not hold. A lane that may not run on a metered line must not do so because nobody says
//! whether it is one; it waits, and says that it is not known.

use std::fmt;

/// One thing that must hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Condition {
    /// The network is not metered.
    Unmetered,
    /// This network is connected; of several, one.
    Network(String),
    /// The computer runs on mains power.
    Mains,
}

impl Condition {
    /// Reads `unmetered`, `network Office`, `mains`.
    ///
    /// # Errors
    /// Says what it could be.
    pub fn parse(text: &str) -> Result<Condition, String> {
        let text = text.trim();
        match (text, text.strip_prefix("network ").map(str::trim)) {
            ("unmetered", _) => Ok(Condition::Unmetered),
            ("mains", _) => Ok(Condition::Mains),
            (_, Some(name)) if !name.is_empty() => Ok(Condition::Network(name.to_owned())),
            _ => Err(format!(
                "{text:?} is no condition: write `unmetered`, `network NAME` or `mains`"
            )),
        }
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Condition::Unmetered => out.write_str("unmetered"),
            Condition::Network(name) => write!(out, "network {name}"),
            Condition::Mains => out.write_str("mains"),
        }
    }
}

/// What is known of a computer's surroundings; none where nothing tells it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Surroundings {
    /// Whether the line costs by what goes over it.
    pub metered: Option<bool>,
    /// The names of the networks that are connected.
    pub networks: Option<Vec<String>>,
    /// Whether the computer runs on its battery.
    pub on_battery: Option<bool>,
    /// Since when nobody has touched it, in microseconds since 1970; the inner one is none while somebody does.
    pub idle_since: Option<Option<i64>>,
}

/// What a lane of these conditions waits for, in words; none where all of them hold.
#[must_use]
pub fn waits_for(conditions: &[Condition], around: &Surroundings) -> Option<String> {
    let named: Vec<&str> = conditions
        .iter()
        .filter_map(|condition| match condition {
            Condition::Network(name) => Some(name.as_str()),
            _ => None,
        })
        .collect();
    for condition in conditions {
        let said = match condition {
            Condition::Unmetered => match around.metered {
                Some(false) => continue,
                Some(true) => "a network that is not metered; this one is".to_owned(),
                None => not_known("a network that is not metered", "NetworkManager"),
            },
            Condition::Mains => match around.on_battery {
                Some(false) => continue,
                Some(true) => "mains power; it runs on its battery".to_owned(),
                None => not_known("mains power", "UPower"),
            },
            Condition::Network(_) => {
                let wanted = format!("the network {}", named.join(" or "));
                match &around.networks {
                    Some(here) if here.iter().any(|name| named.contains(&name.as_str())) => {
                        continue;
                    }
                    Some(here) if here.is_empty() => format!("{wanted}; none is connected"),
                    Some(here) => format!("{wanted}; connected is {}", here.join(", ")),
                    None => not_known(&wanted, "NetworkManager"),
                }
            }
        };
        return Some(said);
    }
    None
}

fn not_known(wanted: &str, who: &str) -> String {
    format!("{wanted}; that is not known here, since {who} does not answer")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_is_read_is_written_the_same(text in "(network )?\\PC{0,20}") {
            if let Ok(condition) = Condition::parse(&text) {
                prop_assert_eq!(Condition::parse(&condition.to_string()), Ok(condition));
            }
        }
    }

    #[test]
    fn what_is_not_known_does_not_hold() {
        let all = ["unmetered", "network Office", "network At home", "mains"];
        let all: Vec<Condition> = all.map(|text| Condition::parse(text).unwrap()).into();
        let mut around = Surroundings::default();
        let waits = |around: &Surroundings| waits_for(&all, around).unwrap_or_default();
        assert!(waits(&around).contains("not known here, since NetworkManager"));
        around.metered = Some(true);
        assert!(waits(&around).starts_with("a network that is not metered"));
        around.metered = Some(false);
        assert!(waits(&around).contains("the network Office or At home; that is not known"));
        around.networks = Some(Vec::new());
        assert!(waits(&around).ends_with("none is connected"));
        around.networks = Some(vec!["Café".into()]);
        assert!(waits(&around).ends_with("connected is Café"));
        around.networks = Some(vec!["Café".into(), "At home".into()]);
        assert!(waits(&around).contains("mains power; that is not known"));
        around.on_battery = Some(true);
        assert!(waits(&around).contains("its battery"));
        around.on_battery = Some(false);
        assert_eq!(waits_for(&all, &around), None);
        assert_eq!(waits_for(&[], &Surroundings::default()), None);
    }

    #[test]
    fn conditions_are_read_as_they_are_written() {
        for text in ["unmetered", "network Office 2", "mains"] {
            assert_eq!(Condition::parse(text).unwrap().to_string(), text);
        }
        for text in ["", "network", "network ", "metered", "any"] {
            assert!(Condition::parse(text).is_err(), "{text}");
        }
    }
}
