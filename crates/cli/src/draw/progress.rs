//! Progress on a terminal: files, bytes, speed and time left; nothing in a pipe.

use std::sync::Arc;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use katabatic_core::words;
use katabatic_engine::pass::Progress;
use katabatic_engine::progress::Phase;

use super::Style;

/// Draws for as long as `work` runs.
pub async fn during<T>(
    style: Style,
    lane: &str,
    progress: Arc<Progress>,
    work: impl Future<Output = T>,
) -> T {
    if !style.terminal {
        return work.await;
    }
    let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr());
    bar.set_prefix(lane.to_owned());
    let mut tick = tokio::time::interval(Duration::from_millis(100));
    tokio::pin!(work);
    let result = loop {
        tokio::select! {
            result = &mut work => break result,
            _ = tick.tick() => draw(&bar, &progress),
        }
    };
    bar.finish_and_clear();
    result
}

fn draw(bar: &ProgressBar, progress: &Progress) {
    let moment = progress.moment();
    match moment.phase {
        Phase::Looking => {
            if let Ok(style) = ProgressStyle::with_template("{prefix}: looking, {msg}") {
                bar.set_style(style);
            }
            bar.set_message(words::count(moment.seen, "path", "paths"));
        }
        Phase::Carrying => {
            let template = "{prefix}: {msg} [{bar:24}] {decimal_bytes} of {decimal_total_bytes}, {decimal_bytes_per_sec}, {eta} left";
            if let Ok(style) = ProgressStyle::with_template(template) {
                bar.set_style(style.progress_chars("= "));
            }
            bar.set_length(moment.bytes);
            bar.set_position(moment.bytes_done);
            bar.set_message(format!(
                "{} of {}",
                words::grouped(moment.files_done),
                words::count(moment.files, "step", "steps")
            ));
        }
    }
    bar.tick();
}
