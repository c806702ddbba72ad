//! A server that takes requests and says nothing.
//!
//! One request that stays without an answer may be one that the server chews on, and costs one file or folder its
//! turn. A server that does not answer the smallest question there is either is not there: whatever else it were asked
//! would be waited for in vain, each time for as long as the account's patience lasts, which for a lane of a thousand
//! files is days. So the two are told apart by knocking.

use std::time::Duration;

use katabatic_core::words;
use reqwest::Method;
use tokio::time::Instant;

use super::client::Client;
use crate::SideError;
use crate::side_error::Away;

/// For so long nothing more is asked of a server that did not answer a knock: long enough for a pass to end, short
/// enough to go on soon after it is back.
const LEFT_ALONE: Duration = Duration::from_secs(2);

impl Client {
    /// Knocks (`OPTIONS`, RFC 9110 §9.3.7, without credentials) after a request of ours got no answer since `began`,
    /// unless the server answered another one meanwhile.
    pub(super) async fn knock(&self, began: Instant) {
        if self.traffic().has_answered_since(began) {
            return;
        }
        let asked = self.unsigned(Method::OPTIONS).send();
        // Any answer is one, also a refusal; of a line that is cut, the next request tells more.
        let nothing = tokio::select! {
            answer = tokio::time::timeout(self.patience(), asked) => answer.is_err(),
            () = self.stop.given_up() => return,
        };
        if nothing && !self.traffic().has_answered_since(began) {
            self.traffic().leave_alone(LEFT_ALONE);
        }
    }

    /// Whether anything may be asked now.
    ///
    /// # Errors
    /// [`SideError::NotThere`] where the server did not answer a knock a moment ago, or asked to be left alone for longer.
    pub(super) fn check_awake(&self) -> Result<(), SideError> {
        if let Some(left) = self.traffic().stays_away() {
            return Err(SideError::away(
                Away::LeftAlone,
                format!(
                    "{} is too busy and asks to be left alone for another {} (503 or 429 with Retry-After)",
                    self.host(),
                    words::span(left.as_secs() + 1)
                ),
            ));
        }
        if !self.traffic().is_left_alone() {
            return Ok(());
        }
        Err(SideError::not_there(format!(
            "{} took two requests one after the other and sent nothing for {} s each time",
            self.host(),
            self.patience().as_secs()
        )))
    }
}
