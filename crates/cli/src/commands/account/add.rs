//! `account add`: understand the address, reach the server, sign in, show whom it reached, ask, save.

use crate::commands::account::signing::Signing;
use clap::Args;
use katabatic_core::RelPath;
use katabatic_core::words;
use katabatic_engine::account_book;
use katabatic_engine::accounts::address::{self, Understood};
use katabatic_engine::config::{AccountConfig, SignIn, is_sftp};
use katabatic_engine::{Class, Error};
use katabatic_ledger::account_rows;
use katabatic_sides::net::host_and_port;
use katabatic_sides::survey::Top;
use serde_json::json;

use super::look_around;
use super::signing::{self, Reached, confirmed};
use super::{described, probing, sftp_signing, shown, signs_in};
use crate::app::App;
use crate::draw::{field, json, line, say, shown_text};

/// `account add`.
#[derive(Args, Debug)]
pub struct AccountAddArgs {
    /// The name it gets here, such as `office`; later written @office
    pub name: String,
    /// The address of its WebDAV folder, or sftp://HOST/FOLDER/; asked for on a terminal where it is left out
    #[arg(long, value_name = "URL")]
    pub address: Option<String>,
    /// Who signs in; by a password that is asked for, and by SFTP with a key where there is one
    #[arg(long)]
    pub user: Option<String>,
    /// Where the server has several roots, the one to use
    #[arg(long, value_name = "FOLDER")]
    pub root: Option<String>,
    /// Never write anything to it
    #[arg(long)]
    pub read_only: bool,
    /// Take plain http; everybody on the way can read the password and every file
    #[arg(long)]
    pub plain_http: bool,
    /// The name under which this program asks for a sign-in code, where the server wants another
    #[arg(long, value_name = "ID")]
    pub client_id: Option<String>,
    /// What the sign-in is asked for, where the server wants that said
    #[arg(long)]
    pub scope: Option<String>,
    /// How to sign in.
    #[command(flatten)]
    pub signing: Signing,
}

pub fn add(app: &App, typed: &AccountAddArgs) -> Result<(), Error> {
    let taken = app
        .config
        .accounts
        .iter()
        .any(|account| account.name == typed.name);
    app.config.check_free("account", &typed.name, taken)?;
    let (understood, asked_user) = match &typed.address {
        Some(address) => (address::understand(address, typed.plain_http)?, None),
        None => asked(app, typed)?,
    };
    let typed_user = typed.user.as_ref().or(asked_user.as_ref());
    // Who is named signs in by a password, unless another way was asked for.
    let way = match (typed.signing.sign_in, typed_user) {
        (Some(way), _) => Some(way),
        (None, Some(_)) if !is_sftp(understood.url.as_str()) => Some(SignIn::Basic),
        (None, _) => None,
    };
    let user = match (typed_user, &understood.user) {
        (Some(typed), Some(held)) if typed != held => {
            return Err(Error::usage(
                "the user who signs in",
                format!("--user says {typed}, and the address holds the name {held}"),
                "Leave one of them out.",
            ));
        }
        (typed, held) => typed.or(held.as_ref()).cloned().unwrap_or_default(),
    };
    if !app.common.json && !understood.put_right.is_empty() {
        line(format!("Understood the address as {}", understood.url));
        for note in &understood.put_right {
            line(format!("  {note}"));
        }
    }
    let mut account = AccountConfig {
        read_only: typed.read_only,
        plain_http: typed.plain_http,
        client_id: typed.client_id.clone(),
        scope: typed.scope.clone(),
        keeping: katabatic_engine::secrets::best(),
        ..AccountConfig::new(&typed.name, understood.url.as_str(), &user)
    };
    signing::apply(&mut account, &typed.signing)?;
    let reached = match account.is_sftp() {
        true => sftp_signing::reach(app, account, &typed.signing, way)?,
        false => by_web(app, account, typed, way)?,
    };
    let reached = with_root(app, reached, typed.root.as_deref())?;
    save(app, typed, reached)
}

fn by_web(
    app: &App,
    account: AccountConfig,
    typed: &AccountAddArgs,
    way: Option<SignIn>,
) -> Result<Reached, Error> {
    let signed_in = signing::sign_in_to(app, account, &typed.signing, way)?;
    match signed_in.enter(app, signed_in.account.clone()) {
        // Something answers there that is no WebDAV folder: the folder may lie elsewhere on that host.
        Err(error) if error.class == Class::Failed => {
            look_around::look_around(app, &signed_in, typed.signing.yes, error)
        }
        reached => reached,
    }
}

/// The address and who signs in, asked on a terminal. An address that cannot be understood is asked for again, with the reason.
fn asked(app: &App, typed: &AccountAddArgs) -> Result<(Understood, Option<String>), Error> {
    let next = "Nothing was saved. Say it in one line: katabatic account add NAME --address URL";
    if !signing::asks(app) {
        return Err(Error::usage(
            format!("adding the account @{}", typed.name),
            "its --address is needed; on a terminal it is asked for",
            next,
        ));
    }
    let question = "What is its address (of its folder, its host, or what a browser shows)? ";
    let understood = loop {
        let answer = signing::typed_answer(question, next)?;
        match address::understand(&answer, typed.plain_http) {
            Ok(understood) => break understood,
            Err(why) => {
                say(format!("{}. {}", why.why, why.next));
            }
        }
    };
    if typed.user.is_some() || understood.user.is_some() || typed.signing.sign_in.is_some() {
        return Ok((understood, None));
    }
    let question =
        "Who signs in, by name and password (nothing: by a code that the person types elsewhere)? ";
    let user = signing::typed_answer(question, next)?;
    Ok((understood, Some(user).filter(|user| !user.is_empty())))
}

/// Where the top is no place for files but holds several roots, one of them becomes the account's.
fn with_root(app: &App, mut reached: Reached, root: Option<&str>) -> Result<Reached, Error> {
    let roots: Vec<&Top> = reached.survey.top.iter().filter(|top| top.folder).collect();
    let only_holds_roots = reached.survey.may_write == Some(false)
        && roots.iter().any(|root| root.may_write == Some(true));
    let root = match root {
        Some(root) => root.trim_matches('/').to_owned(),
        None if !only_holds_roots => return Ok(reached),
        None => {
            let listed: Vec<String> = roots.iter().map(|root| described_root(root)).collect();
            return Err(Error::new(
                Class::Usage,
                format!("adding the account @{}", reached.account.name),
                format!("this server has several roots: {}", listed.join("; ")),
                format!(
                    "Choose one: --root {}",
                    words::typed(
                        &roots
                            .first()
                            .map_or_else(String::new, |root| root.name.clone())
                    )
                ),
            ));
        }
    };
    if !roots.iter().any(|known| known.name == root) {
        let names: Vec<&str> = roots.iter().map(|root| root.name.as_str()).collect();
        return Err(Error::usage(
            format!("the root {root}"),
            format!(
                "there is no folder of that name at the top; there are {}",
                names.join(", ")
            ),
            "Choose one of them.",
        ));
    }
    let mut url = address::understand(&reached.account.address, reached.account.plain_http)?.url;
    if let Ok(mut parts) = url.path_segments_mut() {
        parts.pop_if_empty().push(&root).push("");
    }
    reached.account.address = url.to_string();
    let credential = reached.credential.clone();
    reached.survey = signing::enter(app, &reached.account, &credential, &mut reached.steps)?;
    Ok(reached)
}

fn described_root(root: &Top) -> String {
    let right = match root.may_write {
        Some(true) => "read and write",
        Some(false) => "read only",
        None => "rights not told",
    };
    let owner = root
        .owner
        .as_ref()
        .map_or_else(String::new, |owner| format!(", of {owner}"));
    shown_text(&format!("{} ({right}{owner})", root.name))
}

fn save(app: &App, typed: &AccountAddArgs, reached: Reached) -> Result<(), Error> {
    let Reached {
        mut account,
        survey,
        steps,
        certificate,
        credential,
    } = reached;
    account.principal.clone_from(&survey.principal);
    if account.user.is_empty() {
        account.user = survey.principal.as_ref().map_or_else(
            || "(let in by a code)".into(),
            |principal| principal.name.clone(),
        );
    }
    let url = address::understand(&account.address, account.plain_http)?.url;
    if !app.common.json {
        line("Reached:");
        shown::survey(app.style, &host_and_port(&url), &survey);
        if let Some(same) = same_account(app, &account) {
            field(
                app.style,
                "mind",
                &format!("it is the same account as @{same}, which is here already"),
            );
        }
        if account.plain_http {
            field(
                app.style,
                "plain http",
                "everybody on the way can read the password and every file",
            );
        }
    }
    if !confirmed(app, typed.signing.yes, "Is this the right account?")? {
        return Err(Error::new(
            Class::Failed,
            format!("adding the account @{}", account.name),
            "it is not the right one, as was said",
            "Nothing was saved. Sign in as the right person.",
        ));
    }
    // Only now: before, it might have been somebody else's account that was written to.
    let client = signing::client_of(app, &account, &credential)?;
    let said = app.run(probing::find_out(
        app,
        &account,
        &url,
        &client,
        &survey,
        &RelPath::root(),
    ))?;
    let secret = signing::secret_of(app, &credential);
    let mut config = app.config.clone();
    account_book::save(&app.home, &mut config, account.clone(), &secret)?;
    let (name, space, now) = (account.name.clone(), (survey.used, survey.free), app.now());
    app.run(
        app.ledger
            .write(move |connection| account_rows::reached(connection, &name, now, Some(space))),
    )?;
    if app.common.json {
        json::print(&json!({
            "account": described(&account),
            "reached": shown::as_json(&survey, &steps, certificate.as_ref()),
            "can": probing::as_json(&said),
        }));
        return Ok(());
    }
    line(format!(
        "Added the account @{} at {}",
        account.name, account.address
    ));
    field(app.style, "signs in", &signs_in(&account));
    field(
        app.style,
        "secret",
        &format!("kept {}", account.keeping.describe()),
    );
    probing::unguarded(app, &said);
    if account.read_only {
        field(app.style, "read-only", "nothing is ever written to it");
    }
    line(format!(
        "Next: katabatic lane add NAME --near DIR --far @{}/FOLDER",
        account.name
    ));
    Ok(())
}

/// An account that is here already and leads to the same files.
fn same_account<'a>(app: &'a App, account: &AccountConfig) -> Option<&'a str> {
    let same = |known: &&AccountConfig| {
        known.address == account.address
            && match (&known.principal, &account.principal) {
                (Some(known), Some(new)) => known.href == new.href,
                _ => known.user == account.user,
            }
    };
    app.config
        .accounts
        .iter()
        .find(same)
        .map(|known| known.name.as_str())
}
