//! How many requests an account is sent at a time.
//!
//! It begins at eight. While all of them are in use and answers come as quickly as ever, it grows; a server that says
//! it is busy halves it and is left in peace for as long as it asks; answers that take several times as long as the
//! quickest take one away. All clients of an account in a program share one [`Traffic`].

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::Instant;

/// So many requests are in flight at first.
const FIRST: usize = 8;

/// And so many at the most.
pub const MOST: usize = 32;

/// Answers that take so many times as long as the quickest show a server with enough to do.
const SLOWER: u32 = 2;

/// A server that asks for longer is asked again after a day.
const LONGEST_AWAY: Duration = Duration::from_secs(86_400);

/// After so many requests the quickest answer is looked for anew: a line may have become another one.
const FORGOTTEN_AFTER: u32 = 1_000;

/// The requests of one account.
#[derive(Clone, Debug)]
pub struct Traffic {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    permits: Arc<Semaphore>,
    state: Mutex<State>,
}

#[derive(Debug)]
struct State {
    limit: usize,
    /// Permits that go as soon as they come back.
    owed: usize,
    /// Answers since the limit changed.
    since: usize,
    quickest: Option<Duration>,
    smoothed: Duration,
    counted: u32,
    /// The server asked to be left in peace until then.
    peace_until: Option<Instant>,
    /// When it last gave any answer.
    answered: Option<Instant>,
    /// It answers nothing, and nothing is asked until then.
    alone_until: Option<Instant>,
    /// It asked that nobody comes back before then, which is longer than a pass can wait.
    away_until: Option<Instant>,
}

/// A request in flight; its place is free again when this is dropped.
#[derive(Debug)]
pub struct Flight {
    permit: Option<OwnedSemaphorePermit>,
    traffic: Traffic,
    began: Instant,
}

impl Default for Traffic {
    fn default() -> Traffic {
        Traffic {
            inner: Arc::new(Inner {
                permits: Arc::new(Semaphore::new(FIRST)),
                state: Mutex::new(State {
                    limit: FIRST,
                    owed: 0,
                    since: 0,
                    quickest: None,
                    smoothed: Duration::ZERO,
                    counted: 0,
                    peace_until: None,
                    answered: None,
                    alone_until: None,
                    away_until: None,
                }),
            }),
        }
    }
}

impl Traffic {
    fn state(&self) -> MutexGuard<'_, State> {
        self.inner
            .state
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
    }

    /// How many requests may be in flight now.
    #[must_use]
    pub fn limit(&self) -> usize {
        self.state().limit
    }

    /// Waits for a place, and for the end of a pause that the server asked for.
    pub async fn begin(&self) -> Flight {
        let permit = Arc::clone(&self.inner.permits).acquire_owned().await.ok();
        loop {
            let until = self
                .state()
                .peace_until
                .filter(|until| *until > Instant::now());
            match until {
                Some(until) => tokio::time::sleep_until(until).await,
                None => break,
            }
        }
        Flight {
            permit,
            traffic: self.clone(),
            began: Instant::now(),
        }
    }

    /// The server was too busy, and asks for this pause.
    pub fn turned_away(&self, pause: Option<Duration>) {
        let mut state = self.state();
        if let Some(pause) = pause {
            let until = Instant::now() + pause;
            state.peace_until = Some(state.peace_until.map_or(until, |known| known.max(until)));
        }
        // Requests that were under way together are turned away together; that is one sign, not eight.
        if state.since >= state.limit.min(4) || state.limit == FIRST {
            let halved = (state.limit / 2).max(1);
            self.shrink(&mut state, halved);
        }
    }

    /// The server gave an answer.
    pub(crate) fn answers(&self) {
        let mut state = self.state();
        state.answered = Some(Instant::now());
        state.alone_until = None;
    }

    /// Whether it gave any answer since then.
    pub(crate) fn has_answered_since(&self, then: Instant) -> bool {
        self.state().answered.is_some_and(|last| last >= then)
    }

    /// The server answers nothing, and is not worth asking for so long.
    pub(crate) fn leave_alone(&self, time: Duration) {
        self.state().alone_until = Some(Instant::now() + time);
    }

    /// Whether the server is not worth asking now.
    pub(crate) fn is_left_alone(&self) -> bool {
        let until = self.state().alone_until;
        until.is_some_and(|until| until > Instant::now())
    }

    /// The server asks that nobody comes back for so long, at the most a day.
    pub(crate) fn stay_away(&self, time: Duration) {
        self.state().away_until = Some(Instant::now() + time.min(LONGEST_AWAY));
    }

    /// For how long nobody is to come back yet, as the server asked.
    pub(crate) fn stays_away(&self) -> Option<Duration> {
        let until = self.state().away_until?;
        let left = until.saturating_duration_since(Instant::now());
        (!left.is_zero()).then_some(left)
    }

    fn shrink(&self, state: &mut State, limit: usize) {
        let gone = state.limit - limit;
        state.limit = limit;
        state.since = 0;
        state.owed += gone - self.inner.permits.forget_permits(gone);
    }

    fn answered_in(&self, time: Duration) {
        let mut state = self.state();
        state.since += 1;
        state.counted += 1;
        if state.counted >= FORGOTTEN_AFTER {
            (state.counted, state.quickest) = (0, None);
        }
        let quickest = state.quickest.map_or(time, |quickest| quickest.min(time));
        state.quickest = Some(quickest);
        state.smoothed = if state.smoothed.is_zero() {
            time
        } else {
            (state.smoothed * 7 + time) / 8
        };
        if state.since < state.limit {
            return;
        }
        let in_use = self.inner.permits.available_permits() == 0;
        if in_use && state.smoothed < quickest * SLOWER && state.limit < MOST {
            state.limit += 1;
            state.since = 0;
            if state.owed > 0 {
                state.owed -= 1;
            } else {
                self.inner.permits.add_permits(1);
            }
        } else if state.smoothed > quickest * SLOWER * 2 && state.limit > FIRST {
            let one_less = state.limit - 1;
            self.shrink(&mut state, one_less);
        }
    }
}

impl Flight {
    /// The server has begun to answer a request that had no content to carry: how long that took tells how busy it is.
    pub fn answered(&self) {
        self.traffic.answered_in(self.began.elapsed());
    }
}

impl Drop for Flight {
    fn drop(&mut self) {
        let mut state = self.traffic.state();
        if state.owed > 0
            && let Some(permit) = self.permit.take()
        {
            state.owed -= 1;
            permit.forget();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    async fn rounds(traffic: &Traffic, rounds: usize, takes: impl Fn(usize) -> Duration) {
        for _ in 0..rounds {
            let mut flights = Vec::new();
            for _ in 0..traffic.limit() {
                flights.push(traffic.begin().await);
            }
            tokio::time::sleep(takes(flights.len())).await;
            // Answers come while their places are still taken.
            flights.iter().for_each(Flight::answered);
        }
    }

    #[tokio::test(start_paused = true)]
    async fn a_long_line_gets_many_requests_and_a_busy_server_few() {
        let long = Traffic::default();
        rounds(&long, 60, |_| Duration::from_millis(200)).await;
        assert_eq!(long.limit(), MOST);

        // One that works on one request at a time gains nothing by more of them.
        let busy = Traffic::default();
        drop({
            let flight = busy.begin().await;
            tokio::time::sleep(Duration::from_millis(1)).await;
            flight.answered();
            flight
        });
        rounds(&busy, 60, |flights| Duration::from_millis(flights as u64)).await;
        assert_eq!(busy.limit(), FIRST);
    }

    #[tokio::test(start_paused = true)]
    async fn turned_away_halves_it_once_and_keeps_the_peace() {
        let traffic = Traffic::default();
        rounds(&traffic, 60, |_| Duration::from_millis(50)).await;
        let flights = [traffic.begin().await, traffic.begin().await];
        traffic.turned_away(Some(Duration::from_secs(3)));
        traffic.turned_away(Some(Duration::from_secs(2)));
        assert_eq!(traffic.limit(), MOST / 2);
        let began = Instant::now();
        drop(flights);
        drop(traffic.begin().await);
        assert_eq!(began.elapsed().as_secs(), 3);
        for _ in 0..40 {
            traffic.turned_away(None);
            rounds(&traffic, 6, |_| Duration::from_millis(500)).await;
        }
        assert!(traffic.limit() >= 1);
        // No place was lost on the way: all that the limit allows can be had at once.
        rounds(&traffic, 1, |_| Duration::from_millis(50)).await;
    }
}
