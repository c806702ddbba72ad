//! What is around the computer, as the system tells it over D-Bus: networks (NetworkManager), power (UPower), whether
//! anybody sits there, and that it is about to be shut down (systemd-logind).
//!
//! Nothing is asked again and again: each service says when something about it changed, and only then is it asked.

use std::collections::HashMap;
use std::time::Duration;

use futures_util::StreamExt;
use katabatic_core::condition::Surroundings;
use tokio::sync::{mpsc, watch};
use zbus::message::Type;
use zbus::proxy::CacheProperties;
use zbus::zvariant::{OwnedFd, OwnedObjectPath};
use zbus::{Connection, MatchRule, MessageStream, Proxy};

/// Where there is no bus, nothing tells when there is one: it is looked so often.
const BUS_YET: Duration = Duration::from_secs(60);

const NETWORKS: [&str; 3] = [
    "org.freedesktop.NetworkManager",
    "/org/freedesktop/NetworkManager",
    "org.freedesktop.NetworkManager",
];
const POWER: [&str; 3] = [
    "org.freedesktop.UPower",
    "/org/freedesktop/UPower",
    "org.freedesktop.UPower",
];
const LOGIN: [&str; 3] = [
    "org.freedesktop.login1",
    "/org/freedesktop/login1",
    "org.freedesktop.login1.Manager",
];

/// The computer is about to be shut down; for as long as this is kept, it waits, within limits of its own.
pub(super) struct ShuttingDown {
    _held_up: Option<OwnedFd>,
}

/// Tells what is around for as long as somebody listens; `at_end` says whether a shutdown is to be told.
pub(super) async fn follow(
    around: watch::Sender<Surroundings>,
    at_end: mpsc::UnboundedSender<ShuttingDown>,
    holds_up: bool,
) {
    while !around.is_closed() {
        if let Err(why) = follow_the_bus(&around, &at_end, holds_up).await {
            tracing::debug!("the system's bus: {why}");
        }
        around.send_replace(Surroundings::default());
        tokio::time::sleep(BUS_YET).await;
    }
}

async fn follow_the_bus(
    around: &watch::Sender<Surroundings>,
    at_end: &mpsc::UnboundedSender<ShuttingDown>,
    holds_up: bool,
) -> zbus::Result<()> {
    let bus = Connection::system().await?;
    let mut changes = futures_util::stream::SelectAll::new();
    for rule in [
        rule()
            .interface("org.freedesktop.DBus.Properties")?
            .path_namespace(NETWORKS[1])?,
        rule()
            .interface("org.freedesktop.DBus.Properties")?
            .path_namespace(POWER[1])?,
        rule()
            .interface("org.freedesktop.DBus.Properties")?
            .path(LOGIN[1])?,
        rule().interface(LOGIN[2])?.member("PrepareForShutdown")?,
        // A service that comes or goes.
        rule()
            .interface("org.freedesktop.DBus")?
            .member("NameOwnerChanged")?,
    ] {
        changes.push(MessageStream::for_match_rule(rule.build(), &bus, None).await?);
    }
    let mut held_up = match holds_up {
        true => hold_up(&bus).await,
        false => None,
    };
    loop {
        around.send_replace(look(&bus).await);
        let message = tokio::select! {
            message = changes.next() => message,
            () = around.closed() => return Ok(()),
        };
        let Some(message) = message else {
            return Ok(());
        };
        let message = message?;
        let member = message.header().member().map(ToString::to_string);
        if member.as_deref() == Some("PrepareForShutdown")
            && message.body().deserialize::<bool>().unwrap_or(false)
        {
            let held_up = held_up.take();
            // Nobody listens any more: the agent ends anyway.
            let _ = at_end.send(ShuttingDown { _held_up: held_up });
        }
    }
}

fn rule() -> zbus::match_rule::Builder<'static> {
    MatchRule::builder().msg_type(Type::Signal)
}

async fn proxy<'b>(bus: &'b Connection, of: [&'static str; 3]) -> zbus::Result<Proxy<'b>> {
    let [name, path, interface] = of;
    zbus::proxy::Builder::<Proxy<'b>>::new(bus)
        .destination(name)?
        .path(path)?
        .interface(interface)?
        .cache_properties(CacheProperties::No)
        .build()
        .await
}

/// Holds up a shutdown for a moment, as long as the descriptor is kept (systemd's inhibitor locks, mode `delay`).
async fn hold_up(bus: &Connection) -> Option<OwnedFd> {
    let login = proxy(bus, LOGIN).await.ok()?;
    let why = (
        "shutdown",
        "katabatic",
        "Changed files are carried before the computer is shut down",
        "delay",
    );
    let held = login.call::<_, _, OwnedFd>("Inhibit", &why).await;
    held.inspect_err(|why| tracing::debug!("a shutdown cannot be held up: {why}"))
        .ok()
}

async fn look(bus: &Connection) -> Surroundings {
    let mut around = Surroundings::default();
    if let Ok(networks) = proxy(bus, NETWORKS).await {
        // NMMetered: 1 yes, 2 no, 3 and 4 the same by guessing, 0 not known.
        around.metered = match networks.get_property::<u32>("Metered").await {
            Ok(1 | 3) => Some(true),
            Ok(2 | 4) => Some(false),
            _ => None,
        };
        around.networks = names_of(bus, &networks).await.ok();
    }
    if let Ok(power) = proxy(bus, POWER).await {
        around.on_battery = power.get_property("OnBattery").await.ok();
    }
    if let Ok(login) = proxy(bus, LOGIN).await {
        let idle = login.get_property::<bool>("IdleHint").await.ok();
        let since = login.get_property::<u64>("IdleSinceHint").await.ok();
        around.idle_since = idle.map(|idle| {
            let since = since.and_then(|since| i64::try_from(since).ok());
            since.filter(|_| idle)
        });
    }
    around
}

async fn names_of(bus: &Connection, networks: &Proxy<'_>) -> zbus::Result<Vec<String>> {
    let active: Vec<OwnedObjectPath> = networks.get_property("ActiveConnections").await?;
    let mut names = Vec::new();
    for path in active {
        let one = zbus::proxy::Builder::<Proxy<'_>>::new(bus)
            .destination(NETWORKS[0])?
            .path(path)?
            .interface("org.freedesktop.NetworkManager.Connection.Active")?
            .cache_properties(CacheProperties::No)
            .build()
            .await?;
        // One that went away meanwhile has no name any more.
        if let Ok(name) = one.get_property::<String>("Id").await {
            names.push(name);
        }
    }
    Ok(names)
}

/// A text in which nothing is markup (Desktop Notifications Specification, "Markup").
fn without_markup(text: &str) -> String {
    let signs = text.replace('&', "&amp;");
    signs.replace('<', "&lt;").replace('>', "&gt;")
}

/// Shows a message on the desktop of the person (the Desktop Notifications Specification of freedesktop.org).
///
/// # Errors
/// Where there is no desktop, or it shows none.
pub(super) async fn show_on_desktop(title: &str, text: &str, urgent: bool) -> zbus::Result<()> {
    let bus = Connection::session().await?;
    let desktop = proxy(
        &bus,
        [
            "org.freedesktop.Notifications",
            "/org/freedesktop/Notifications",
            "org.freedesktop.Notifications",
        ],
    )
    .await?;
    // Whoever shows markup gets none; whoever does not would show what stands for its signs.
    let can: Vec<String> = desktop.call("GetCapabilities", &()).await?;
    let text = match can.iter().any(|can| can == "body-markup") {
        true => without_markup(text),
        false => text.to_owned(),
    };
    let urgency = zbus::zvariant::Value::U8(if urgent { 2 } else { 1 });
    let hints = HashMap::from([("urgency", urgency)]);
    let no_actions: Vec<&str> = Vec::new();
    let body = (
        "katabatic",
        0_u32,
        "",
        title,
        text.as_str(),
        no_actions,
        hints,
        -1_i32,
    );
    desktop.call::<_, _, u32>("Notify", &body).await.map(drop)
}
