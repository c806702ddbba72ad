//! A day's work with servers whose habits once broke it: nothing came down, nothing was removed, or a version was lost.

use std::error::Error;

use katabatic_trial::contrary::{Draw, Lived, live};

async fn lived(habits: &[&'static str]) -> Result<Lived, Box<dyn Error + Send + Sync>> {
    live(&Draw {
        number: 1,
        habits: habits.to_vec(),
        large: false,
    })
    .await
}

fn went_well(lived: &Lived) {
    assert!(matches!(lived, Lived::Well { .. }), "{lived:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_read_without_a_tag_comes_down() {
    let habits = ["validators=none", "tags=clock"];
    went_well(&lived(&habits).await.unwrap());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn slashes_and_lengths_are_given_as_they_are_wanted() {
    let habits = [
        "slash-redirect=308",
        "needs-length",
        "listings=without-itself",
    ];
    went_well(&lived(&habits).await.unwrap());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_listed_late_is_waited_for() {
    let habits = ["write-behind=300", "no-put-tag"];
    went_well(&lived(&habits).await.unwrap());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn tags_that_change_by_themselves_are_not_looked_at() {
    let habits = ["tags=restless", "without=properties"];
    went_well(&lived(&habits).await.unwrap());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn names_without_a_dot_do_where_none_may_have_one() {
    let habits = ["forbid-dots", "hrefs=other-host", "half-done"];
    went_well(&lived(&habits).await.unwrap());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_listing_does_not_say_is_asked_for() {
    let habits = ["listings=no-lengths", "tags=missing", "hrefs=twice-escaped"];
    went_well(&lived(&habits).await.unwrap());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_that_moves_nothing_is_told_so() {
    let habits = ["without-method=MOVE", "write-in-place"];
    let lived = lived(&habits).await.unwrap();
    assert!(matches!(lived, Lived::Impossible(_)), "{lived:?}");
}
