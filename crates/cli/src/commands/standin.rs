//! `standin serve`: the simulated cloud, until it is stopped.

use std::io::Write;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_engine::Error;
use katabatic_standin::{Config, Fault, Faults, User};
use serde_json::json;

use crate::app;
use crate::args::{Common, Standin, StandinServe};

pub fn standin(common: &Common, standin: &Standin) -> Result<ExitCode, Error> {
    let Standin::Serve(serve) = standin;
    let config = config(serve)?;
    let names: Vec<String> = config.users.iter().map(|user| user.name.clone()).collect();
    app::runtime()?.block_on(async {
        let running = katabatic_standin::start(config).await.map_err(|why| {
            Error::failed(
                "starting the stand-in",
                why,
                "Choose another folder or address; port 0 takes a free one.",
            )
        })?;
        // Scripts read the first line for the address: it is printed only once the server listens.
        let files = |name: &String| running.files_of(name).display().to_string();
        if common.json {
            let users: Vec<_> = names
                .iter()
                .map(|name| json!({"name": name, "files": files(name)}))
                .collect();
            say(&json!({"address": running.url(), "users": users}).to_string());
        } else {
            say(&running.url());
            names
                .iter()
                .for_each(|name| say(&format!("{name} {}", files(name))));
        }
        tokio::select! {
            () = running.wait() => {}
            _ = tokio::signal::ctrl_c() => {}
        }
        Ok(ExitCode::SUCCESS)
    })
}

/// Whoever started it may have closed the pipe after the first line; a server goes on all the same.
fn say(text: &str) {
    let _ = writeln!(std::io::stdout(), "{text}");
}

fn config(serve: &StandinServe) -> Result<Config, Error> {
    let next = "See katabatic standin serve --help.";
    let typed = if serve.users.is_empty() {
        vec!["librarian:practice".to_owned()]
    } else {
        serve.users.clone()
    };
    // A password given here is one of the stand-in's own, made up for practice; it still is not repeated in errors.
    let users = typed.iter().map(|text| text.parse::<User>());
    let users = users
        .collect::<Result<_, _>>()
        .map_err(|why| Error::usage("the users of the stand-in", why.to_string(), next))?;
    let faults = serve.faults.iter().map(|text| text.parse::<Fault>());
    let faults = faults
        .collect::<Result<_, _>>()
        .map_err(|why| Error::usage("the faults of the stand-in", why.to_string(), next))?;
    let data = std::path::absolute(&serve.data).unwrap_or_else(|_| serve.data.clone());
    Ok(Config {
        data,
        listen: serve.listen,
        users,
        faults: Arc::new(Faults::new(faults, serve.seed)),
    })
}
