//! Passes that look only at what the system said had changed: what they carry, and that a word that was lost costs
//! time and nothing else.

use std::fs;

use crate::worlds::{World, path, tree, write};
use katabatic_engine::pass::{Report, Wish};

async fn settled(far_is_here: bool) -> World {
    let mut world = World::new().await;
    if far_is_here {
        world.far_is_here();
    }
    for at in [
        "a.txt",
        "Viola/1.txt",
        "Viola/2.txt",
        "Cello/deep/3.txt",
        "Cello/4.txt",
    ] {
        write(&world.near, at, at);
    }
    world.settle_down().await;
    world
}

async fn hears(world: &World, near: &[&str], far: Option<&[&str]>) -> Report {
    let heard = |paths: &[&str]| Some(paths.iter().map(|at| path(at)).collect());
    let wish = Wish {
        heard: katabatic_core::PerSide {
            near: heard(near),
            far: far.and_then(heard),
        },
        ..Wish::default()
    };
    world.pass().await.unwrap().sync(&wish).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn only_what_was_heard_of_is_looked_at_here() {
    let world = settled(false).await;
    write(&world.near, "a.txt", "edited and heard");
    write(&world.near, "Viola/1.txt", "edited and not heard");
    fs::remove_file(world.near.join("Viola/2.txt")).unwrap();
    write(&world.far, "Cello/4.txt", "edited there");
    let report = hears(&world, &["a.txt"], None).await;
    assert_eq!((report.counts.files_up, report.counts.files_down), (1, 1));
    let far = tree(&world.far);
    assert_eq!(far["a.txt"].as_deref(), Some("edited and heard"));
    assert_eq!(far["Viola/1.txt"].as_deref(), Some("Viola/1.txt"));
    assert!(far.contains_key("Viola/2.txt"));
    // The next walk finds the rest.
    world.settle_down().await;
    assert_eq!(tree(&world.near), tree(&world.far));
    assert!(!tree(&world.far).contains_key("Viola/2.txt"));
}

#[tokio::test(flavor = "multi_thread")]
async fn folders_that_came_went_or_were_renamed_are_carried_whole() {
    for far_is_here in [false, true] {
        let world = settled(far_is_here).await;
        write(&world.near, "new/x/y/5.txt", "five");
        write(&world.near, "new/6.txt", "six");
        fs::create_dir(world.near.join("new/empty")).unwrap();
        fs::remove_dir_all(world.near.join("Viola")).unwrap();
        fs::rename(world.near.join("Cello"), world.near.join("Violoncello")).unwrap();
        // Of a new folder a word about something deep in it is enough.
        hears(
            &world,
            &["Cello", "Viola", "Violoncello", "new/x/y/5.txt"],
            None,
        )
        .await;
        assert_eq!(tree(&world.near), tree(&world.far), "{far_is_here}");
        assert!(tree(&world.far).contains_key("new/empty"));
        assert!(!world.plan().await.unwrap().has_work());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_side_of_this_computer_is_heard_on_both_ends() {
    let world = settled(true).await;
    write(&world.near, "a.txt", "edited here");
    write(&world.far, "Viola/1.txt", "edited there");
    write(&world.far, "Viola/2.txt", "edited there, and not heard");
    let report = hears(&world, &["a.txt"], Some(&["Viola/1.txt"])).await;
    assert_eq!((report.counts.files_up, report.counts.files_down), (1, 1));
    assert_eq!(
        tree(&world.near)["Viola/2.txt"].as_deref(),
        Some("Viola/2.txt")
    );
    world.settle_down().await;
    assert_eq!(tree(&world.near), tree(&world.far));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_word_that_was_lost_costs_no_version() {
    let world = settled(false).await;
    // Edited on both sides, and the one here not heard of: what comes from there must not take its place.
    write(&world.near, "a.txt", "edited here, and nobody said so");
    write(&world.far, "a.txt", "edited there");
    // Removed there, edited here and not heard of.
    write(&world.near, "Viola/1.txt", "edited here as well");
    fs::remove_file(world.far.join("Viola/1.txt")).unwrap();
    // Removed here and not heard of, edited there.
    fs::remove_file(world.near.join("Cello/4.txt")).unwrap();
    write(&world.far, "Cello/4.txt", "four, edited there");
    // A new one on both sides.
    write(&world.near, "new.txt", "from here");
    write(&world.far, "new.txt", "from there");
    let before = world.every_version();
    hears(&world, &[], None).await;
    assert_eq!(
        world.every_version().union(&before).count(),
        world.every_version().len()
    );
    let near = tree(&world.near);
    assert_eq!(
        near["a.txt"].as_deref(),
        Some("edited here, and nobody said so")
    );
    assert_eq!(near["Viola/1.txt"].as_deref(), Some("edited here as well"));
    assert_eq!(near["new.txt"].as_deref(), Some("from here"));
    world.sync().await.unwrap();
    assert_eq!(
        world.every_version().union(&before).count(),
        world.every_version().len()
    );
    let far = tree(&world.far);
    assert_eq!(far["Viola/1.txt"].as_deref(), Some("edited here as well"));
    assert_eq!(
        tree(&world.near)["Cello/4.txt"].as_deref(),
        Some("four, edited there")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_folder_any_more_and_what_is_nothing_is_told_apart() {
    let world = settled(false).await;
    fs::remove_dir_all(world.near.join("Viola")).unwrap();
    fs::write(world.near.join("Viola"), "a file now").unwrap();
    hears(&world, &["Viola", "Viola/1.txt", "was/never/there"], None).await;
    world.settle_down().await;
    assert_eq!(tree(&world.far)["Viola"].as_deref(), Some("a file now"));
    assert_eq!(tree(&world.near), tree(&world.far));
}
