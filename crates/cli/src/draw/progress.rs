//! Progress: files, bytes, speed and time left; on a terminal as a line that is drawn again and again, for programs as
//! lines of JSON on standard error where that is asked for, and nothing otherwise.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use katabatic_core::words;
use katabatic_engine::pass::Progress;
use katabatic_engine::progress::{Moment, Phase};
use serde_json::json;

use super::Style;
use crate::output;

/// A terminal is drawn anew so often.
const DRAWN_EVERY: Duration = Duration::from_millis(100);

/// A program is told so often.
const TOLD_EVERY: Duration = Duration::from_millis(500);

/// The speed is that of so long before now.
const SPEED_OVER: Duration = Duration::from_secs(5);

/// Before this no speed is told: a first moment says nothing of the next.
const SPEED_FROM: Duration = Duration::from_secs(1);

/// How progress is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shown {
    /// Drawn on a terminal.
    Drawn,
    /// As lines of JSON.
    Lines,
    /// Not at all.
    Nothing,
}

/// Draws, or tells, for as long as `work` runs.
pub async fn during<T>(
    style: Style,
    lane: &str,
    progress: Arc<Progress>,
    work: impl Future<Output = T>,
) -> T {
    let every = match style.progress {
        Shown::Nothing => return work.await,
        Shown::Drawn => DRAWN_EVERY,
        Shown::Lines => TOLD_EVERY,
    };
    let bar = (style.progress == Shown::Drawn).then(|| {
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr());
        bar.set_prefix(lane.to_owned());
        bar
    });
    let mut speed = Speed::default();
    let mut tick = tokio::time::interval(every);
    tokio::pin!(work);
    let result = loop {
        tokio::select! {
            result = &mut work => break result,
            _ = tick.tick() => {
                let now = Now::of(&progress, &mut speed);
                match &bar {
                    Some(bar) => draw(bar, &now),
                    None => tell(lane, &now),
                }
            }
        }
    };
    if let Some(bar) = bar {
        bar.finish_and_clear();
    }
    result
}

/// A moment, and how fast it goes.
struct Now {
    moment: Moment,
    /// Bytes a second, once that can be told.
    speed: Option<u64>,
}

impl Now {
    fn of(progress: &Progress, speed: &mut Speed) -> Now {
        let moment = progress.moment();
        let carried = moment.bytes_done.saturating_sub(moment.bytes_had);
        Now {
            moment,
            speed: match moment.phase {
                Phase::Looking => None,
                Phase::Carrying => speed.take(Instant::now(), carried),
            },
        }
    }

    fn left(&self) -> Option<Duration> {
        let left = self.moment.bytes.saturating_sub(self.moment.bytes_done);
        let speed = self.speed.filter(|speed| *speed > 0)?;
        Some(Duration::from_secs(left.div_ceil(speed)))
    }
}

/// How fast it has been in the last seconds.
#[derive(Default)]
struct Speed {
    began: Option<Instant>,
    before: VecDeque<(Instant, u64)>,
}

impl Speed {
    /// Bytes a second, with so many carried by now.
    fn take(&mut self, now: Instant, carried: u64) -> Option<u64> {
        let began = *self.began.get_or_insert(now);
        self.before.push_back((now, carried));
        while self
            .before
            .front()
            .is_some_and(|(at, _)| now.saturating_duration_since(*at) > SPEED_OVER)
            && self.before.len() > 2
        {
            self.before.pop_front();
        }
        if now.saturating_duration_since(began) < SPEED_FROM {
            return None;
        }
        let (from, before) = self.before.front()?;
        let took = now.saturating_duration_since(*from).as_secs_f64();
        let bytes = carried.saturating_sub(*before) as f64;
        (took > 0.0).then(|| (bytes / took) as u64)
    }
}

fn draw(bar: &ProgressBar, now: &Now) {
    let moment = &now.moment;
    match moment.phase {
        Phase::Looking => {
            if let Ok(style) = ProgressStyle::with_template("{prefix}: looking, {msg}") {
                bar.set_style(style);
            }
            bar.set_message(words::count(moment.seen, "path", "paths"));
        }
        Phase::Carrying => {
            if let Ok(style) = ProgressStyle::with_template("{prefix}: [{bar:20}] {msg}") {
                bar.set_style(style.progress_chars("= "));
            }
            // Steps that carry nothing are something to wait for, too.
            let (length, position) = match moment.bytes {
                0 => (moment.files, moment.files_done),
                bytes => (bytes, moment.bytes_done),
            };
            bar.set_length(length.max(1));
            bar.set_position(position);
            bar.set_message(words_of(now));
        }
    }
    bar.tick();
}

fn words_of(now: &Now) -> String {
    let moment = &now.moment;
    let mut words = format!(
        "{} of {}",
        words::grouped(moment.files_done),
        words::count(moment.files, "step", "steps")
    );
    if moment.bytes > 0 {
        words.push_str(&format!(
            ", {} of {}",
            words::bytes(moment.bytes_done),
            words::bytes(moment.bytes)
        ));
    }
    if let Some(speed) = now.speed {
        words.push_str(&format!(", {}/s", words::bytes(speed)));
    }
    if let Some(left) = now.left() {
        words.push_str(&format!(", {} left", words::span(left.as_secs())));
    }
    words
}

fn tell(lane: &str, now: &Now) {
    let moment = &now.moment;
    let told = json!({"progress": {
        "lane": lane,
        "phase": match moment.phase {
            Phase::Looking => "looking",
            Phase::Carrying => "carrying",
        },
        "seen": moment.seen,
        "steps": {"all": moment.files, "done": moment.files_done},
        "bytes": {"all": moment.bytes, "done": moment.bytes_done},
        "bytes_per_second": now.speed,
        "seconds_left": now.left().map(|left| left.as_secs()),
    }});
    output::error_line(&super::json::text(&told));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn speed_is_that_of_the_last_seconds_and_none_at_first() {
        let start = Instant::now();
        let at = |seconds: f64| start + Duration::from_secs_f64(seconds);
        let mut speed = Speed::default();
        assert_eq!(speed.take(at(0.0), 0), None, "the first frame");
        assert_eq!(speed.take(at(0.5), 1_000), None);
        assert_eq!(speed.take(at(1.0), 1_000), Some(1_000));
        for second in 2..=10 {
            speed.take(at(f64::from(second)), 1_000);
        }
        assert_eq!(speed.take(at(11.0), 1_000), Some(0), "it stands still");
    }

    #[test]
    fn what_an_earlier_pass_carried_is_done_and_says_nothing_of_the_speed() {
        let now = |arrived, speed| Now {
            moment: Moment {
                phase: Phase::Carrying,
                seen: 0,
                files: 2,
                files_done: 1,
                bytes: 10_000,
                bytes_done: arrived,
                bytes_had: 4_000,
            },
            speed,
        };
        assert_eq!(
            words_of(&now(4_000, None)),
            "1 of 2 steps, 4.0 KB of 10.0 KB"
        );
        assert_eq!(
            words_of(&now(4_000, Some(0))),
            "1 of 2 steps, 4.0 KB of 10.0 KB, 0 B/s"
        );
        let words = words_of(&now(5_000, Some(500)));
        assert!(words.ends_with(", 500 B/s, 10 s left"), "{words}");
    }
}
