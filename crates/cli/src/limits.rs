//! `--limit-up` and `--limit-down`, from what was typed to what it means.

use clap::Args;
use katabatic_engine::Error;
use katabatic_sides::net::rate::Limits;
use katabatic_sides::net::rates::Rates;

/// How much may go over the line in a second.
#[derive(Args, Clone, Debug, Default, PartialEq)]
pub struct LimitsArgs {
    /// Send no more than this in a second: 2MB/s, 16Mbit/s, or by the time of the day: 'weekdays 08:00-18:00 500kB/s; 5MB/s'
    #[arg(long, value_name = "RATE|none")]
    pub limit_up: Option<String>,
    /// Receive no more than this in a second
    #[arg(long, value_name = "RATE|none")]
    pub limit_down: Option<String>,
}

impl LimitsArgs {
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
