//! How much may go over a line in a second: as people write it, and kept while bytes go by.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use bytes::Bytes;
use jiff::Zoned;
use tokio::time::Instant;

use super::rates::Rates;

/// Bytes a second; at least one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rate(pub u64);

/// The units a rate may be written in, and the bytes of each. Lines are sold in bits, files counted in bytes.
const UNITS: [(&str, f64); 11] = [
    ("mbit/s", 125_000.0),
    ("kbit/s", 125.0),
    ("gbit/s", 125_000_000.0),
    ("kib/s", 1024.0),
    ("mib/s", 1_048_576.0),
    ("gib/s", 1_073_741_824.0),
    ("kb/s", 1e3),
    ("mb/s", 1e6),
    ("gb/s", 1e9),
    ("bit/s", 0.125),
    ("b/s", 1.0),
];

impl Rate {
    /// Reads `2MB/s`, `500 kB/s`, `16 Mbit/s`.
    ///
    /// # Errors
    /// Says what is wrong with it, and what it should look like.
    pub fn parse(text: &str) -> Result<Rate, String> {
        let lower = text.trim().to_ascii_lowercase();
        let odd = || format!("{text:?} is no rate; write it like 2MB/s, 500kB/s or 16Mbit/s");
        let (number, unit) = UNITS
            .iter()
            .find_map(|(name, unit)| Some((lower.strip_suffix(name)?.trim_end(), unit)))
            .ok_or_else(odd)?;
        let number: f64 = number.parse().map_err(|_| odd())?;
        let bytes = number * unit;
        if !(1.0..=1e15).contains(&bytes) {
            return Err(format!("{text} is not a rate that can be kept"));
        }
        Ok(Rate(bytes as u64))
    }
}

impl std::fmt::Display for Rate {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let bytes = self.0 as f64;
        match self.0 {
            1_000_000_000.. => write!(out, "{}GB/s", bytes / 1e9),
            1_000_000.. => write!(out, "{}MB/s", bytes / 1e6),
            1_000.. => write!(out, "{}kB/s", bytes / 1e3),
            _ => write!(out, "{bytes}B/s"),
        }
    }
}

/// Rates up and down; none where there is no limit.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Limits {
    /// To the account.
    pub up: Option<Rates>,
    /// From the account.
    pub down: Option<Rates>,
}

/// After a pause no more than this is made up for at once, so that a rate holds over any second.
const MADE_UP: Duration = Duration::from_millis(50);

/// The largest piece that goes at once: on a slow line, one piece must not take long.
const LARGEST_PIECE: u64 = 256 * 1024;

/// What a rate is set to; whoever keeps it looks at it with each piece, so that a change counts at once.
#[derive(Clone, Debug, Default)]
pub struct Dial(Arc<Mutex<Option<Rates>>>);

impl Dial {
    /// Sets it.
    pub fn set(&self, rates: Option<Rates>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = rates;
    }

    fn rate(&self) -> Option<Rate> {
        let rates = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        rates.as_ref().and_then(|rates| rates.at(&Zoned::now()))
    }
}

/// The dials of both directions.
#[derive(Clone, Debug, Default)]
pub struct Dials {
    pub(crate) up: Dial,
    pub(crate) down: Dial,
}

impl Dials {
    /// Dials that stand at these limits.
    #[must_use]
    pub fn at(limits: &Limits) -> Dials {
        let dials = Dials::default();
        dials.set(limits);
        dials
    }

    /// Sets both.
    pub fn set(&self, limits: &Limits) {
        self.up.set(limits.up.clone());
        self.down.set(limits.down.clone());
    }
}

/// Keeps a rate, for all transfers that share it.
#[derive(Clone, Debug, Default)]
pub struct Pace {
    dial: Dial,
    next: Arc<Mutex<Option<Instant>>>,
}

impl Pace {
    /// One that keeps to this dial.
    #[must_use]
    pub fn new(dial: Dial) -> Pace {
        Pace {
            dial,
            next: Arc::default(),
        }
    }

    /// Waits until so many more bytes may go.
    pub async fn take(&self, bytes: u64) {
        let Some(rate) = self.dial.rate() else {
            return;
        };
        let turn = {
            let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
            let now = Instant::now();
            let earliest = now.checked_sub(MADE_UP).unwrap_or(now);
            let turn = next.map_or(now, |next| next.max(earliest));
            *next = Some(turn + Duration::from_secs_f64(bytes as f64 / rate.0 as f64));
            turn
        };
        tokio::time::sleep_until(turn).await;
    }

    /// How many bytes should go at once.
    fn piece(&self) -> u64 {
        self.dial.rate().map_or(LARGEST_PIECE, |rate| {
            (rate.0 / 50).clamp(256, LARGEST_PIECE)
        })
    }
}

/// The paces of one direction that a transfer keeps: those of all lanes together, of its account, and of its own lane.
#[derive(Clone, Debug)]
pub struct Paces(pub [Pace; 3]);

impl Paces {
    /// Cuts the next piece off a chunk, and waits until it may go.
    pub async fn next(&self, chunk: &mut Bytes) -> Bytes {
        let piece = self
            .0
            .iter()
            .map(Pace::piece)
            .min()
            .unwrap_or(LARGEST_PIECE);
        let piece = chunk.split_to((piece as usize).min(chunk.len()));
        for pace in &self.0 {
            pace.take(piece.len() as u64).await;
        }
        piece
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rate_is_read_as_people_write_it() {
        for (text, bytes) in [
            ("2MB/s", 2_000_000),
            ("2 mb/s", 2_000_000),
            ("500kB/s", 500_000),
            ("1.5MB/s", 1_500_000),
            ("1MiB/s", 1_048_576),
            ("16Mbit/s", 2_000_000),
            ("800b/s", 800),
        ] {
            assert_eq!(Rate::parse(text), Ok(Rate(bytes)), "{text}");
        }
        for text in [
            "", "2", "2MB", "fast", "-1MB/s", "0B/s", "nanMB/s", "1e99GB/s",
        ] {
            assert!(Rate::parse(text).is_err(), "{text}");
        }
        for bytes in [1, 999, 1_500, 2_000_000, 3_000_000_000] {
            assert_eq!(Rate::parse(&Rate(bytes).to_string()), Ok(Rate(bytes)));
        }
    }

    #[tokio::test(start_paused = true)]
    async fn a_pace_is_kept_within_five_in_a_hundred_over_ten_seconds() {
        let dial = Dial::default();
        dial.set(Some(Rates::always(Rate(2_000_000))));
        let paces = Paces([Pace::default(), Pace::new(dial.clone()), Pace::default()]);
        let began = Instant::now();
        let mut sent = 0;
        while began.elapsed() < Duration::from_secs(10) {
            // Two transfers share it, and chunks come as they come.
            for size in [1_000_000, 17] {
                let mut chunk = Bytes::from(vec![0; size]);
                while !chunk.is_empty() && began.elapsed() < Duration::from_secs(10) {
                    sent += paces.next(&mut chunk).await.len();
                }
            }
        }
        assert!((19_000_000..=21_000_000).contains(&sent), "{sent}");
        // Half of it from now on, for what is under way as well.
        dial.set(Some(Rates::always(Rate(1_000_000))));
        let (began, mut sent) = (Instant::now(), 0);
        let mut chunk = Bytes::from(vec![0; 100_000_000]);
        while began.elapsed() < Duration::from_secs(10) {
            sent += paces.next(&mut chunk).await.len();
        }
        assert!((9_500_000..=10_500_000).contains(&sent), "{sent}");
    }

    #[test]
    fn fuzz_rates() {
        katabatic_fuzz::each_text("rates", |text| {
            if let Ok(rate) = Rate::parse(text) {
                assert!(format!("{rate:?}").len() < 200);
            }
        });
    }
}
