//! `--limit-up` and `--limit-down`, from what was typed to what it means.

use katabatic_engine::Error;
use katabatic_sides::net::rate::Limits;
use katabatic_sides::net::rates::Rates;

use crate::args::LimitsTyped;

impl LimitsTyped {
    /// What was typed, over what was so far; `none` lifts a limit.
    pub fn over(&self, so_far: &Limits) -> Result<Limits, Error> {
        Ok(Limits {
            up: rate("--limit-up", self.limit_up.as_deref(), &so_far.up)?,
            down: rate("--limit-down", self.limit_down.as_deref(), &so_far.down)?,
        })
    }
}

fn rate(option: &str, typed: Option<&str>, so_far: &Option<Rates>) -> Result<Option<Rates>, Error> {
    match typed {
        None => Ok(so_far.clone()),
        Some("none") => Ok(None),
        Some(text) => Rates::parse(text)
            .map(Some)
            .map_err(|why| Error::usage(option, why, "`none` lifts the limit.")),
    }
}

/// Limits in words: `2MB/s up, 500kB/s down`; empty where there are none.
pub fn words(limits: &Limits) -> String {
    let side =
        |rates: &Option<Rates>, way: &str| rates.as_ref().map(|rates| format!("{rates} {way}"));
    let sides: Vec<String> = [side(&limits.up, "up"), side(&limits.down, "down")]
        .into_iter()
        .flatten()
        .collect();
    sides.join(", ")
}
