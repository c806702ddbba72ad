//! What can be typed. What it means is found out by the commands.

use katabatic_core::RunClass;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

/// Ties a person's folders to a cloud account and keeps them in step.
#[derive(Debug, Parser)]
#[command(
    name = "katabatic",
    version,
    max_term_width = 100,
    disable_help_subcommand = true
)]
#[command(after_help = "\
Exit codes: 0 all settled; 1 failed; 2 wrong use; 3 finished, but something needs a person; 4 the brake
stopped it; 5 the account refused; 6 a side is not there; 130 stopped by Ctrl-C.")]
pub struct Typed {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
    /// Options that every command has.
    #[command(flatten)]
    pub common: Common,
}

/// Options that every command has.
#[derive(Args, Clone, Debug)]
pub struct Common {
    /// Keep config, ledger and secrets under this folder
    #[arg(long, global = true, value_name = "DIR", env = "KATABATIC_HOME")]
    pub home: Option<PathBuf>,
    /// Be this user, with their folders and rights (for root)
    #[arg(long = "for", global = true, value_name = "USER")]
    pub for_user: Option<String>,
    /// Answer in JSON (docs/formats.md)
    #[arg(long, global = true)]
    pub json: bool,
    /// Words only: no marks, no colour
    #[arg(long, global = true)]
    pub plain: bool,
    /// Say only what needs a person
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// Say more on standard error; twice for every request
    #[arg(long, short, global = true, action = clap::ArgAction::Count)]
    pub verbose: u8,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run a full example on sample data, by itself
    Demo(Demo),
    /// Accounts: add, list, show, test, sign-in, rename, remove
    #[command(subcommand)]
    Account(Account),
    /// Lanes: add, list, show, change, remove
    #[command(subcommand)]
    Lane(Lane),
    /// Lanes that run by themselves: run, start, stop, status, pause, resume, install
    #[command(subcommand)]
    Agent(Agent),
    /// Look on, live: what each lane does, what moves now, what needs a person
    Watch,
    /// Whom the agent tells what happened, and how: show or set it
    Tell(Tell),
    /// How much may go over the line in a second, all lanes together: show or set it
    Limits(LimitsTyped),
    /// Programs that open stubs: what comes for them, which are kept out, how much one gets at once
    Openings(OpeningsTyped),
    /// The standard folders: how large they are, what covers them, and lanes for them
    Cover(Cover),
    /// Choose which folders of the far side come here, by size
    Choose(Choose),
    /// Show what a pass would do; nothing is changed
    Plan(Plan),
    /// Run a pass: scan, plan, carry, record
    Sync(Sync),
    /// Bring content here, of what is only a stub
    Fetch(Fetch),
    /// Free room without removing anything: drop content here to stubs, once it is proven to be there
    Shed(Shed),
    /// Keep files and folders here for good, whatever else is dropped; or list what is kept
    Hold(Hold),
    /// Show what lies on this disk, and what could go; or free so much of it
    Room(Room),
    /// Show where files stand, and why
    Status(Status),
    /// Tell the whole story of one file or folder, there or not
    Why(Why),
    /// Prove that both sides hold the same: read them and compare byte for byte
    Audit(Audit),
    /// Look for what usually goes wrong: this computer, each account, each lane
    Doctor,
    /// Write one page for the ticket: status, doctor, the last runs, the settings, with plots
    Report(Report),
    /// Show both versions of every conflict
    Conflicts(Conflicts),
    /// Settle conflicts
    Settle(Settle),
    /// Show what passes did
    Runs(Runs),
    /// Bring back what the far side of a lane holds, to its place or elsewhere
    Recover(Recover),
    /// Take back what a run removed or replaced, on both sides
    Undo(Undo),
    /// What passes removed or replaced: list, restore, prune
    #[command(subcommand)]
    Spares(Spares),
    /// Show what a folder holds, here or in an account
    List(List),
    /// Show which folders are large, here or in an account
    Sizes(Sizes),
    /// Make a folder, here or in an account
    MakeFolder(MakeFolder),
    /// Copy a file or a folder, between any two places
    Copy(Copy),
    /// Move a file or a folder to another place
    Move(Move),
    /// Remove a file or a folder into the spares
    Remove(Remove),
    /// As root: let stubs open themselves, for the agents of all people on this computer; until it is ended
    Opener(Opener),
    /// The simulated cloud, for trying things out
    #[command(subcommand)]
    Standin(Standin),
}

/// `demo`.
#[derive(Args, Debug)]
pub struct Demo {
    /// Make the sample folders here; it must be empty or not exist
    #[arg(long, value_name = "DIR")]
    pub into: Option<PathBuf>,
}

/// `tell`.
#[derive(Args, Debug)]
pub struct Tell {
    /// On the desktop of the person: of success, changes, problem, with commas between them; none for no more
    #[arg(long, value_name = "KINDS|none", value_delimiter = ',')]
    pub desktop: Vec<String>,
    /// By a program, which gets the message as JSON on its standard input
    #[arg(long, value_name = "FILE|none")]
    pub program: Option<String>,
    /// What the program is told of
    #[arg(long, value_name = "KINDS", value_delimiter = ',')]
    pub program_for: Vec<String>,
    /// By a request to an address, with the message as JSON
    #[arg(long, value_name = "URL|none")]
    pub address: Option<String>,
    /// What the address is told of
    #[arg(long, value_name = "KINDS", value_delimiter = ',')]
    pub address_for: Vec<String>,
    /// By a mail that is laid into a folder, for whatever sends mails to send it on
    #[arg(long, value_name = "DIR|none")]
    pub mail_folder: Option<String>,
    /// What mails are about
    #[arg(long, value_name = "KINDS", value_delimiter = ',')]
    pub mail_for: Vec<String>,
    /// When nothing is told; what happens then is told when they end
    #[arg(long, value_name = "HH:MM-HH:MM|none")]
    pub quiet_hours: Option<String>,
    /// Tell something now over every way that is set
    #[arg(long)]
    pub test: bool,
}

/// `account …`.
#[derive(Debug, Subcommand)]
pub enum Account {
    /// Add an account, once it is reached, signed in to and looked at
    Add(AccountAdd),
    /// List all accounts: lanes, space, last reached, last error
    List,
    /// Show one account
    Show(Named),
    /// Reach an account step by step: name, connection, TLS, sign-in, listing, writing
    Test(Named),
    /// Sign in again, or change how: a new password, a gone sign-in, another certificate
    SignIn(AccountSignIn),
    /// Give an account another name; its lanes follow
    Rename(AccountRename),
    /// Remove an account; nothing changes in the cloud
    Remove(AccountRemove),
}

/// A name of an account or a lane.
#[derive(Args, Debug)]
pub struct Named {
    /// Its name
    pub name: String,
}

/// How to sign in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum SignInTyped {
    /// By a code that the person types on any device
    Device,
    /// By name and password
    Basic,
}

/// Where to keep a secret.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum KeepingTyped {
    /// A file that only its owner may read
    File,
    /// The desktop's keyring
    Keyring,
    /// A file encrypted with a passphrase
    Passphrase,
}

/// What `account add` and `account sign-in` share.
#[derive(Args, Debug)]
pub struct Signing {
    /// How to sign in; the best that the server offers where this is left out
    #[arg(long, value_enum)]
    pub sign_in: Option<SignInTyped>,
    /// Read the password from standard input
    #[arg(long, conflicts_with = "password_file")]
    pub password_stdin: bool,
    /// Read the password from the first line of this file
    #[arg(long, value_name = "FILE")]
    pub password_file: Option<PathBuf>,
    /// Where to keep the secret; the keyring where one answers, else a file
    #[arg(long, value_enum)]
    pub secrets: Option<KeepingTyped>,
    /// The same as --secrets passphrase
    #[arg(long, conflicts_with = "secrets")]
    pub passphrase: bool,
    /// Pin this certificate, and trust no other
    #[arg(long, value_name = "sha256:HEX", conflicts_with = "ca")]
    pub trust: Option<String>,
    /// Trust the authorities in this PEM file, and no others
    #[arg(long, value_name = "FILE")]
    pub ca: Option<PathBuf>,
    /// The proxy on the way, or `none`; the environment decides where this is left out
    #[arg(long, value_name = "URL|none")]
    pub proxy: Option<String>,
    /// For how long the server may send nothing [default: 60]
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub patience: Option<u64>,
    /// How much may go over the line in a second.
    #[command(flatten)]
    pub limits: LimitsTyped,
    /// Do not ask whether it is the right account
    #[arg(long)]
    pub yes: bool,
}

/// How much may go over the line in a second.
#[derive(Args, Clone, Debug, Default)]
pub struct LimitsTyped {
    /// Send no more than this in a second: 2MB/s, 16Mbit/s, or by the time of the day: 'weekdays 08:00-18:00 500kB/s; 5MB/s'
    #[arg(long, value_name = "RATE|none")]
    pub limit_up: Option<String>,
    /// Receive no more than this in a second
    #[arg(long, value_name = "RATE|none")]
    pub limit_down: Option<String>,
}

/// `openings`.
#[derive(Args, Clone, Debug, Default)]
pub struct OpeningsTyped {
    /// Programs of this name get no content of stubs: they only look at files; a * at the end stands for any rest
    #[arg(long, value_name = "PROGRAM")]
    pub keep_out: Vec<String>,
    /// Programs of this name, which were kept out, get it again
    #[arg(long, value_name = "PROGRAM")]
    pub let_in: Vec<String>,
    /// A program gets no more stubs than this within ten minutes
    #[arg(long, value_name = "NUMBER|none")]
    pub most_files: Option<String>,
    /// A program gets no more than this within ten minutes
    #[arg(long, value_name = "SIZE|none")]
    pub most_bytes: Option<String>,
    /// Back to what holds where nothing was set
    #[arg(long)]
    pub as_usual: bool,
}

/// `account add`.
#[derive(Args, Debug)]
pub struct AccountAdd {
    /// The name it gets here, such as `office`; later written @office
    pub name: String,
    /// The address of its WebDAV folder
    #[arg(long, value_name = "URL")]
    pub address: String,
    /// Who signs in
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

/// `account sign-in`.
#[derive(Args, Debug)]
pub struct AccountSignIn {
    /// The account
    pub name: String,
    /// Who signs in, where that is somebody else by name
    #[arg(long)]
    pub user: Option<String>,
    /// How to sign in.
    #[command(flatten)]
    pub signing: Signing,
}

/// `account rename`.
#[derive(Args, Debug)]
pub struct AccountRename {
    /// The account
    pub name: String,
    /// The name it gets
    pub to: String,
}

/// `account remove`.
#[derive(Args, Debug)]
pub struct AccountRemove {
    /// The account
    pub name: String,
    /// Take its lanes away too; every file stays on both sides
    #[arg(long)]
    pub with_lanes: bool,
}

/// `lane …`.
#[derive(Debug, Subcommand)]
pub enum Lane {
    /// Tie two places; nothing is carried yet. On a terminal, without options, it asks
    Add(LaneAsked),
    /// List all lanes
    List,
    /// Show one lane
    Show(Named),
    /// Change any setting of a lane; what the next pass would do is shown first
    Change(LaneChange),
    /// Remove what the lane's rules leave out, from both sides, into the spares; shown first
    Sweep(LaneSweep),
    /// Move the near folder to another disk, or follow a folder that was moved
    Relocate(LaneRelocate),
    /// Take a lane away; every file stays on both sides
    Remove(LaneRemove),
}

/// Which way a lane carries.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum DirectionTyped {
    /// Changes on each side go to the other
    TwoWay,
    /// Near to far only
    Up,
    /// Far to near only
    Down,
}

/// What becomes of a removal.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum RemovalsTyped {
    /// Carried; what goes is kept in the spares
    Carry,
    /// What is removed on one side stays on the other
    Keep,
    /// Each waits for a yes
    Ask,
}

/// What becomes of drift.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum DriftTyped {
    /// Reported and left
    Leave,
    /// Put right from the source; the drifted version goes to the spares
    Restore,
}

/// What a one-way lane does with new versions.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum UpdatesTyped {
    /// They take the older one's place, which goes to the spares
    Replace,
    /// They go beside the older one, under a dated name
    Add,
    /// They are not carried
    Never,
}

/// What happens to new folders on the far side.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum NewFoldersTyped {
    /// They come here
    Take,
    /// They stay there
    Skip,
}

/// Which names go up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum NamesTyped {
    /// Any that the far side takes
    Any,
    /// Only those that every usual system can hold; others wait, with a name that would do
    Portable,
}

/// How a lane works; what is not typed stays as it is.
#[derive(Args, Clone, Debug, Default)]
pub struct SetupTyped {
    /// Which way it carries; two-way where nothing was said
    #[arg(long, value_enum)]
    pub direction: Option<DirectionTyped>,
    /// What becomes of removals; where nothing was said, two-way lanes carry them and the others keep
    #[arg(long, value_enum)]
    pub removals: Option<RemovalsTyped>,
    /// One-way: what becomes of files that changed on the receiving side
    #[arg(long, value_enum)]
    pub drift: Option<DriftTyped>,
    /// One-way: what becomes of new versions
    #[arg(long, value_enum)]
    pub updates: Option<UpdatesTyped>,
    /// Do not take this folder of the far side
    #[arg(long, value_name = "FOLDER")]
    pub skip: Vec<String>,
    /// Take this folder, within one that is not taken
    #[arg(long, value_name = "FOLDER")]
    pub take: Vec<String>,
    /// What happens to new folders on the far side
    #[arg(long, value_enum)]
    pub new_folders: Option<NewFoldersTyped>,
    /// Leave out what matches: '*.tmp', 'cache/', '/Old/x', ':hidden', ':larger 2GB', ':smaller 1KB', ':deeper 3'
    #[arg(long, value_name = "RULE")]
    pub leave_out: Vec<String>,
    /// Drop this rule
    #[arg(long, value_name = "RULE")]
    pub let_in: Vec<String>,
    /// Begin without the rules for what desktops and office programs leave behind
    #[arg(long)]
    pub no_usual_rules: bool,
    /// Which names go up: any, or only those that every system can hold
    #[arg(long, value_enum)]
    pub names: Option<NamesTyped>,
    /// Whether it is synced only when it is named
    #[arg(long, value_name = "true|false", num_args = 0..=1, default_missing_value = "true")]
    pub by_name_only: Option<bool>,
    /// When the agent runs it: 'on change', 'every 15m', 'daily 18:00', 'weekdays 08:30', 'mon,fri 09:00', 'RRULE:…',
    /// 'at start', 'at end', 'when plugged in', 'when idle 10m', 'by hand'
    #[arg(long, value_name = "TIME")]
    pub when: Vec<String>,
    /// What comes here of new files: all, or stubs without content, which take no room
    #[arg(long, value_enum)]
    pub contents: Option<ContentsTyped>,
    /// Its content here is at most so much, such as 20GB; the agent sheds what was not used for longest. none lifts it
    #[arg(long, value_name = "SIZE|none")]
    pub max_local: Option<String>,
    /// So much of the disk stays free, in the same way
    #[arg(long, value_name = "SIZE|none")]
    pub leave_free: Option<String>,
    /// What proves that a file is there before its last copy here goes: its content, or its version tag alone, where that
    /// can be no other version's; it is called believed then
    #[arg(long, value_enum)]
    pub proof: Option<ProofTyped>,
    /// Carry so many files at a time; 8 otherwise
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..=8))]
    pub transfers: Option<u64>,
    /// Carry what changed once its folder was quiet for so long; 2 otherwise
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub quiet_seconds: Option<u64>,
    /// Let the agent run it only while this holds: 'unmetered', 'network NAME', 'mains'; 'any' lifts it
    #[arg(long, value_name = "CONDITION")]
    pub only_on: Vec<String>,
    /// Tell somebody when it has not settled for so long; 0 for never
    #[arg(long, value_name = "HOURS", value_parser = clap::value_parser!(u64).range(0..=8784))]
    pub tell_unsettled_hours: Option<u64>,
    /// The brake stops above this share of the files in a day; 25 otherwise
    #[arg(long, value_name = "PERCENT", value_parser = clap::value_parser!(u64).range(1..=100))]
    pub brake_percent: Option<u64>,
    /// So many removals and replacements in a day never stop a pass; 10 otherwise
    #[arg(long, value_name = "N")]
    pub brake_always_fine: Option<u64>,
    /// More than so many in a day always stop a pass; 1000 otherwise
    #[arg(long, value_name = "N")]
    pub brake_never_fine: Option<u64>,
    /// How much may go over the line in a second.
    #[command(flatten)]
    pub limits: LimitsTyped,
}

/// `lane add`, as it was typed; on a terminal it asks for what is missing.
#[derive(Args, Debug)]
pub struct LaneAsked {
    /// The name it gets
    pub name: Option<String>,
    /// The folder on this computer
    #[arg(long, value_name = "DIR")]
    pub near: Option<String>,
    /// The folder of an account, or of another drive
    #[arg(long, value_name = "@ACCOUNT/FOLDER|DIR")]
    pub far: Option<String>,
    /// Make a folder that is not there
    #[arg(long)]
    pub make: bool,
    /// How it works.
    #[command(flatten)]
    pub setup: SetupTyped,
}

/// `lane add`, whole.
#[derive(Clone, Debug)]
pub struct LaneAdd {
    /// The name it gets.
    pub name: String,
    /// The folder on this computer.
    pub near: String,
    /// The folder of an account, or of another drive.
    pub far: String,
    /// Whether a folder is made that is not there.
    pub make: bool,
    /// How it works.
    pub setup: SetupTyped,
}

/// `lane change`.
#[derive(Args, Debug)]
pub struct LaneChange {
    /// The lane
    pub name: String,
    /// The folder that becomes its far side
    #[arg(long, value_name = "@ACCOUNT/FOLDER|DIR")]
    pub far: Option<String>,
    /// Leave out what desktops and office programs leave behind
    #[arg(long)]
    pub usual_rules: bool,
    /// How it works.
    #[command(flatten)]
    pub setup: SetupTyped,
    /// What --contents says is to hold for this folder of the lane alone, and all below it
    #[arg(long = "in", value_name = "FOLDER", requires = "contents")]
    pub in_folder: Option<String>,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

/// `lane sweep`.
#[derive(Args, Debug)]
pub struct LaneSweep {
    /// The lane
    pub name: String,
    /// Only what these rules of the lane leave out
    #[arg(value_name = "RULE")]
    pub rules: Vec<String>,
    /// Only show it
    #[arg(long)]
    pub preview: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

/// `lane relocate`.
#[derive(Args, Debug)]
pub struct LaneRelocate {
    /// The lane
    pub name: String,
    /// The folder's new place: one of this computer for the near side, @ACCOUNT/FOLDER where the far folder was moved
    #[arg(value_name = "NEW-PLACE")]
    pub place: String,
    /// Leave the old copy where it is
    #[arg(long)]
    pub keep_old: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

/// `choose`.
#[derive(Args, Debug)]
pub struct Choose {
    /// The lane
    pub lane: String,
    /// Do not take this folder any more; its local copy goes once it is proven to be on the far side
    #[arg(long, value_name = "FOLDER")]
    pub skip: Vec<String>,
    /// Take this folder again
    #[arg(long, value_name = "FOLDER")]
    pub take: Vec<String>,
    /// What happens to new folders on the far side
    #[arg(long, value_enum)]
    pub new_folders: Option<NewFoldersTyped>,
    /// How deep the tree is shown
    #[arg(long, default_value_t = 2, value_name = "N")]
    pub depth: usize,
    /// Only say what it would do
    #[arg(long)]
    pub preview: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

/// `cover`.
#[derive(Args, Debug)]
pub struct Cover {
    /// The standard folders to cover: desktop, documents, downloads, music, pictures, public, templates, videos
    pub folders: Vec<String>,
    /// The account that gets them
    #[arg(long, value_name = "NAME")]
    pub account: Option<String>,
    /// The folder there that holds the computers' folders
    #[arg(long, value_name = "FOLDER")]
    pub under: Option<String>,
    /// What this computer is called there; its host name otherwise
    #[arg(long = "as", value_name = "NAME")]
    pub name: Option<String>,
    /// Carry both ways, and not only up
    #[arg(long)]
    pub two_way: bool,
    /// Bring back what this other computer had covered, and cover it from here
    #[arg(long, value_name = "OLD-NAME", conflicts_with = "name")]
    pub take_over: Option<String>,
    /// End the cover of these; every file stays on both sides
    #[arg(long, value_name = "FOLDER", num_args = 1.., conflicts_with_all = ["folders", "take_over"])]
    pub off: Vec<String>,
    /// Begin without the rules for what desktops and office programs leave behind
    #[arg(long)]
    pub no_usual_rules: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

/// `plan`.
#[derive(Args, Debug)]
pub struct Plan {
    /// Lanes, or files and folders in them; all lanes where none is named
    #[arg(value_name = "LANE|PATH")]
    pub about: Vec<String>,
    /// Name every file; long plans are folded by folder otherwise
    #[arg(long)]
    pub all: bool,
    /// As `sync --lead` would do it
    #[arg(long, value_enum)]
    pub lead: Option<LeadTyped>,
}

/// `sync`.
#[derive(Args, Debug)]
pub struct Sync {
    /// Lanes, or files and folders in them; all lanes where none is named
    #[arg(value_name = "LANE|PATH")]
    pub about: Vec<String>,
    /// Carry exactly the plan of this id, or nothing
    #[arg(long, value_name = "ID")]
    pub exactly: Option<String>,
    /// Release the brake for this number of removals and replacements
    #[arg(long, value_name = "N")]
    pub release_brake: Option<u64>,
    /// One-way: put right from the source whatever changed on the receiving side
    #[arg(long)]
    pub restore_drift: bool,
    /// A first pass in which one side leads: what only the other has, or has otherwise, goes to the spares
    #[arg(long, value_enum)]
    pub lead: Option<LeadTyped>,
    /// For this pass only.
    #[command(flatten)]
    pub limits: LimitsTyped,
}

/// What comes of new files.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ContentsTyped {
    /// Files with their content
    All,
    /// Stubs: name, size and date; the content when it is fetched
    Stubs,
}

/// What proves that a file is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ProofTyped {
    /// The digest that the server tells, or reading it back
    Content,
    /// Its version tag
    Tags,
}

/// The side that leads.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum LeadTyped {
    /// What is on this computer counts
    Near,
    /// What is on the far side counts
    Far,
}

/// `fetch`.
#[derive(Args, Debug)]
pub struct Fetch {
    /// Files and folders in lanes, or whole lanes
    #[arg(value_name = "LANE|PATH", required = true)]
    pub about: Vec<String>,
    /// Of these only what a rule catches: '*.pdf', 'Past seasons/**', ':larger 100MB', ':smaller 1MB'; of several, any
    #[arg(long, value_name = "RULE")]
    pub only: Vec<String>,
    /// Only say what would come, and how much
    #[arg(long)]
    pub preview: bool,
}

/// `shed`.
#[derive(Args, Debug)]
pub struct Shed {
    /// Files and folders in lanes, or whole lanes
    #[arg(value_name = "LANE|PATH", required = true)]
    pub about: Vec<String>,
    /// Of these only what a rule catches: '*.pdf', 'Past seasons/**', ':larger 100MB', ':smaller 1MB'; of several, any
    #[arg(long, value_name = "RULE")]
    pub only: Vec<String>,
    /// Only say what would go, and how much room that frees
    #[arg(long)]
    pub preview: bool,
}

/// `hold`.
#[derive(Args, Debug)]
pub struct Hold {
    /// Files and folders in lanes; what is kept, where none is named
    #[arg(value_name = "PATH")]
    pub paths: Vec<String>,
    /// Keep them no longer; their content stays until somebody sheds it
    #[arg(long, requires = "paths")]
    pub off: bool,
}

/// `room`.
#[derive(Args, Debug)]
pub struct Room {
    /// The lane; all lanes where none is named
    pub lane: Option<String>,
    /// Free so much, such as 5GB: what was not used for longest goes first, never what is held or not settled
    #[arg(long, value_name = "SIZE")]
    pub free: Option<String>,
    /// Do it without asking
    #[arg(long, requires = "free")]
    pub yes: bool,
}

/// `status`.
#[derive(Args, Debug)]
pub struct Status {
    /// Lanes, or files and folders in them; all lanes where none is named
    #[arg(value_name = "LANE|PATH")]
    pub about: Vec<String>,
    /// Name only what stands so; several with commas between them
    #[arg(long, value_enum, value_delimiter = ',', value_name = "STATE")]
    pub state: Vec<StateTyped>,
    /// Name every path that is not settled, however many there are; with --json the settled ones, too
    #[arg(long)]
    pub all: bool,
    /// Ask the far side too, instead of telling what the last pass saw there
    #[arg(long)]
    pub fresh: bool,
    /// Draw the folders as a tree, each with all that is in it
    #[arg(long, conflicts_with_all = ["json", "lines", "state", "all"])]
    pub tree: bool,
    /// So many levels of folders are drawn
    #[arg(long, value_name = "LEVELS", default_value_t = 2)]
    pub depth: usize,
    /// Write a line of JSON for every path, settled ones too, as they are found
    #[arg(long, conflicts_with = "json")]
    pub lines: bool,
}

/// How a path stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum StateTyped {
    /// A change is known and not carried yet
    Waiting,
    /// Both sides changed
    Conflict,
    /// It cannot be carried
    Stuck,
    /// Its removal waits for a yes
    Asking,
    /// One-way: the receiving side changed by itself
    Drift,
    /// A rule, the choice or its kind keeps it out
    LeftOut,
}

/// `why`.
#[derive(Args, Debug)]
pub struct Why {
    /// A file or a folder, here or in an account, whether it is there or not
    #[arg(value_name = "PATH")]
    pub path: String,
}

/// `audit`.
#[derive(Args, Debug)]
pub struct Audit {
    /// The lane; all lanes where none is named
    pub lane: Option<String>,
    /// Read nothing: compare sizes, tags and what is recorded
    #[arg(long)]
    pub quick: bool,
    /// Write a report here as well: FILE.html, FILE.csv or FILE.json
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Do not ask before everything is read
    #[arg(long)]
    pub yes: bool,
}

/// `conflicts`.
#[derive(Args, Debug)]
pub struct Conflicts {
    /// The lane; all lanes where none is named
    pub lane: Option<String>,
}

/// What to keep.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum KeepTyped {
    /// The version on this computer
    Near,
    /// The version in the cloud
    Far,
    /// Both, the far one under a dated name
    Both,
    /// The one that was edited last, where that is known
    Newest,
}

/// `settle`.
#[derive(Args, Debug)]
pub struct Settle {
    /// Files in conflict, or folders or lanes that hold some; what drifted, or whose removal waits for a yes
    #[arg(required_unless_present = "ask", value_name = "PATH|LANE")]
    pub paths: Vec<String>,
    /// Which version to keep; the other goes to the spares
    #[arg(long, value_enum, required_unless_present = "ask")]
    pub keep: Option<KeepTyped>,
    /// Show the conflicts one by one on the terminal, and ask about each
    #[arg(long, conflicts_with_all = ["keep", "only_try", "json"])]
    pub ask: bool,
    /// Only say what it would do
    #[arg(long = "try")]
    pub only_try: bool,
}

/// `runs`.
#[derive(Args, Debug)]
pub struct Runs {
    /// A lane, or the number of a run to see file by file
    #[arg(value_name = "LANE|RUN")]
    pub about: Option<String>,
    /// How many of the last runs
    #[arg(long, default_value_t = 20, value_name = "N")]
    pub last: u32,
    /// Only of this day
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub day: Option<String>,
    /// Only those that ended so
    #[arg(long, value_enum)]
    pub outcome: Option<OutcomeTyped>,
    /// Draw what was carried on each day of the last weeks
    #[arg(long, conflicts_with_all = ["day", "outcome"])]
    pub plot: bool,
    /// How many weeks to draw
    #[arg(long, value_name = "N", default_value_t = 4, value_parser = clap::value_parser!(u32).range(1..=53))]
    pub weeks: u32,
    /// Draw it into this new file
    #[arg(long, value_name = "FILE.svg", requires = "plot")]
    pub to: Option<PathBuf>,
    /// Forget what runs did that began more than so many days ago; versions in the spares keep theirs
    #[arg(long, value_name = "DAYS", value_parser = clap::value_parser!(i64).range(1..=36_500), conflicts_with_all = ["about", "plot", "day", "outcome"])]
    pub forget_older_than: Option<i64>,
    /// Do it without asking
    #[arg(long, requires = "forget_older_than")]
    pub yes: bool,
}

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum OutcomeTyped {
    /// As it should
    Fine,
    /// With something that needs a person
    Person,
    /// Not at all: it failed or was stopped
    Failed,
    /// In the middle: the program or the computer went down
    CutOff,
}

impl OutcomeTyped {
    /// What it asks for.
    pub fn class(self) -> RunClass {
        match self {
            OutcomeTyped::Fine => RunClass::Fine,
            OutcomeTyped::Person => RunClass::NeedsPerson,
            OutcomeTyped::Failed => RunClass::Failed,
            OutcomeTyped::CutOff => RunClass::CutOff,
        }
    }
}

/// `recover`.
#[derive(Args, Debug)]
pub struct Recover {
    /// The lane
    pub lane: String,
    /// A file or a folder of it; everything where none is named
    #[arg(value_name = "PATH")]
    pub path: Option<String>,
    /// Bring it into this folder instead, which is made where it is not there
    #[arg(long, value_name = "DIR")]
    pub to: Option<PathBuf>,
    /// Do it without asking
    #[arg(long)]
    pub yes: bool,
}

/// `spares …`.
#[derive(Debug, Subcommand)]
pub enum Spares {
    /// List what lies in the spares
    List(SparesList),
    /// Bring a version back
    Restore(SparesRestore),
    /// Give up what is old, or named by its number, for good
    Prune(SparesPrune),
}

/// `spares prune`.
#[derive(Args, Debug)]
pub struct SparesPrune {
    /// The lane; all lanes where none is named
    pub lane: Option<String>,
    /// What has lain there for so many days
    #[arg(long, value_name = "DAYS", default_value_t = 30, value_parser = clap::value_parser!(i64).range(1..))]
    pub older_than: i64,
    /// And the oldest until so much is left: 2GB; never what is younger than seven days
    #[arg(long, value_name = "SIZE")]
    pub keep_below: Option<String>,
    /// Just these numbers, whatever their age
    #[arg(long, value_name = "N", conflicts_with_all = ["lane", "keep_below"])]
    pub number: Vec<i64>,
    /// Do it without asking
    #[arg(long)]
    pub yes: bool,
}

/// `report`.
#[derive(Args, Debug)]
pub struct Report {
    /// The new file; it needs nothing else to be read or printed, and holds no secret
    #[arg(long, value_name = "FILE.html")]
    pub to: PathBuf,
}

/// `agent …`.
#[derive(Debug, Subcommand)]
pub enum Agent {
    /// Run it here until it is told to end, with Ctrl-C or by `agent stop`
    Run(AgentRun),
    /// Start it in the background
    Start,
    /// End it; what is being placed is finished, the rest goes on later
    Stop,
    /// Show whether it runs, what each lane is doing, and what comes next
    Status,
    /// Leave a lane, or all, alone for a while
    Pause(AgentPause),
    /// Go on
    Resume(AgentResume),
    /// End just the pass that a lane is in
    StopPass(Named),
    /// Let it start with the computer, by systemd
    Install(AgentInstall),
}

/// `lane remove`.
#[derive(Args, Debug)]
pub struct LaneRemove {
    /// The lane
    pub name: String,
    /// Let its stubs go from this computer; their files stay on the other side
    #[arg(long)]
    pub drop_stubs: bool,
}

/// `agent run`.
#[derive(Args, Debug)]
pub struct AgentRun {
    /// Where the opener listens, by which stubs open themselves
    #[arg(long, value_name = "SOCKET", default_value = katabatic_opener::DEFAULT_SOCKET)]
    pub opener: PathBuf,
}

/// `opener`.
#[derive(Args, Debug)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Opener {
    #[command(subcommand)]
    pub does: Option<OpenerDoes>,
    /// Where agents find it
    #[arg(long, value_name = "SOCKET", default_value = katabatic_opener::DEFAULT_SOCKET)]
    pub socket: PathBuf,
}

/// What else than to run.
#[derive(Subcommand, Debug)]
pub enum OpenerDoes {
    /// Let it start with the computer, by systemd; for root
    Install(OpenerInstall),
}

/// `opener install`.
#[derive(Args, Debug)]
pub struct OpenerInstall {
    /// Stop it, and let it start no more
    #[arg(long)]
    pub off: bool,
    /// Where the system's units lie
    #[arg(long, value_name = "FOLDER", default_value = crate::unit::UNITS)]
    pub units: PathBuf,
}

/// `agent pause`.
#[derive(Args, Debug)]
pub struct AgentPause {
    /// The lane; all where none is named
    pub lane: Option<String>,
    /// For so long, such as 30m or 2h; until somebody ends it where nothing is said
    #[arg(long, value_name = "TIME", conflicts_with = "until")]
    pub lasting: Option<String>,
    /// Until the clock shows this, such as 17:00
    #[arg(long, value_name = "HH:MM")]
    pub until: Option<String>,
}

/// `agent resume`.
#[derive(Args, Debug)]
pub struct AgentResume {
    /// The lane; all where none is named
    pub lane: Option<String>,
}

/// `agent install`.
#[derive(Args, Debug)]
pub struct AgentInstall {
    /// As a service of the system, for root to install
    #[arg(long, conflicts_with = "user")]
    pub system: bool,
    /// As a service of this person; so where nothing is said
    #[arg(long)]
    pub user: bool,
    /// Take it away again
    #[arg(long)]
    pub off: bool,
    /// Only write the unit to standard output, and install nothing
    #[arg(long, conflicts_with = "off")]
    pub print: bool,
    /// Where the system's units lie
    #[arg(long, value_name = "FOLDER", default_value = crate::unit::UNITS)]
    pub units: PathBuf,
}

/// `undo`.
#[derive(Args, Debug)]
pub struct Undo {
    /// The number of the run, as `runs` lists it
    pub run: i64,
    /// Do it without asking
    #[arg(long)]
    pub yes: bool,
}

/// `spares list`.
#[derive(Args, Debug)]
pub struct SparesList {
    /// The lane; all lanes where none is named
    pub lane: Option<String>,
    /// Only what was at this path of a lane, or in this folder of one
    #[arg(long, value_name = "PATH")]
    pub within: Option<String>,
    /// Only of this day
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub day: Option<String>,
    /// Only what this run removed or replaced
    #[arg(long, value_name = "RUN")]
    pub run: Option<i64>,
}

/// `spares restore`.
#[derive(Args, Debug)]
pub struct SparesRestore {
    /// The number in the list
    pub number: i64,
    /// Copy it to this new file instead of to where it was
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Bring it back on this side, instead of here
    #[arg(long, value_enum, conflicts_with = "to", default_value = "near")]
    pub on: LeadTyped,
}

/// In which order to show members.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum SortTyped {
    /// By name, folders first
    Name,
    /// The largest first
    Size,
    /// The newest first
    Date,
}

/// `list`.
#[derive(Args, Debug)]
pub struct List {
    /// The folder: a local path, or @ACCOUNT/FOLDER
    #[arg(value_name = "PLACE")]
    pub place: String,
    /// Show names that begin with a dot too
    #[arg(long)]
    pub hidden: bool,
    /// Only names of this pattern: `*` stands for anything, `?` for one character
    #[arg(long = "match", value_name = "PATTERN")]
    pub pattern: Option<String>,
    /// The order
    #[arg(long, value_enum, default_value = "name")]
    pub sort: SortTyped,
}

/// `sizes`.
#[derive(Args, Debug)]
pub struct Sizes {
    /// The folder: a local path, or @ACCOUNT/FOLDER
    #[arg(value_name = "PLACE")]
    pub place: String,
    /// So many levels of folders are shown; what is deeper is counted all the same
    #[arg(long, default_value_t = 2, value_name = "LEVELS")]
    pub depth: usize,
}

/// `make-folder`.
#[derive(Args, Debug)]
pub struct MakeFolder {
    /// The folder: a local path, or @ACCOUNT/FOLDER
    #[arg(value_name = "PLACE")]
    pub place: String,
}

/// `copy`.
#[derive(Args, Debug)]
pub struct Copy {
    /// What to copy: a local path, or @ACCOUNT/PATH
    pub from: String,
    /// Where to; a closing slash means into that folder, under its own name
    pub to: String,
    /// What has the name goes to the spares
    #[arg(long)]
    pub replace: bool,
    /// How much may go over the line in a second.
    #[command(flatten)]
    pub limits: LimitsTyped,
}

/// `move`.
#[derive(Args, Debug)]
pub struct Move {
    /// What to move: a local path, or @ACCOUNT/PATH
    pub from: String,
    /// Where to; a closing slash means into that folder, under its own name
    pub to: String,
    /// What has the name goes to the spares
    #[arg(long)]
    pub replace: bool,
}

/// `remove`.
#[derive(Args, Debug)]
pub struct Remove {
    /// What to remove: a local path, or @ACCOUNT/PATH
    #[arg(value_name = "PLACE", required = true)]
    pub places: Vec<String>,
    /// The number of files in the folder that is to go
    #[arg(long, value_name = "N")]
    pub holding: Option<u64>,
}

/// `standin …`.
#[derive(Debug, Subcommand)]
pub enum Standin {
    /// Serve until stopped with Ctrl-C; the first line is the address
    Serve(StandinServe),
}

/// `standin serve`.
#[derive(Args, Debug)]
#[command(after_long_help = crate::commands::standin::faults_help())]
pub struct StandinServe {
    /// Where the files lie, one folder a user
    #[arg(long, value_name = "DIR")]
    pub data: PathBuf,
    /// Where to listen; port 0 takes a free one
    #[arg(long, default_value = "127.0.0.1:0", value_name = "ADDRESS")]
    pub listen: std::net::SocketAddr,
    /// Somebody with an account [default: librarian:practice]
    #[arg(long = "user", value_name = "NAME:PASSWORD")]
    pub users: Vec<String>,
    /// This user signs in with a one-time code too
    #[arg(long = "second-step", value_name = "NAME")]
    pub second_steps: Vec<String>,
    /// A password of this user for one program, without a second step
    #[arg(long = "app-password", value_name = "NAME:PASSWORD")]
    pub app_passwords: Vec<String>,
    /// The account behind this user's sign-in is another one
    #[arg(long = "principal", value_name = "NAME:ACCOUNT")]
    pub principals: Vec<String>,
    /// Several users under one name
    #[arg(long = "group", value_name = "NAME=USER,USER")]
    pub groups: Vec<String>,
    /// A folder that several users see; `:read` after a name may look only
    #[arg(long = "share", value_name = "FOLDER=WHO,WHO:read")]
    pub shares: Vec<String>,
    /// Make each user's files and each shared folder a root of its own
    #[arg(long)]
    pub several_roots: bool,
    /// The most bytes a user may keep
    #[arg(long, value_name = "BYTES")]
    pub quota: Option<u64>,
    /// Speak TLS, with a certificate of its own making
    #[arg(long)]
    pub tls: bool,
    /// Offer no device grant: names and passwords only
    #[arg(long)]
    pub no_device_grant: bool,
    /// How long a code can be typed
    #[arg(long, default_value_t = 600, value_name = "SECONDS")]
    pub code_lasts: u64,
    /// How long an access token is good
    #[arg(long, default_value_t = 3600, value_name = "SECONDS")]
    pub token_lasts: u64,
    /// Where to listen for changes of the faults, such as 127.0.0.1:0
    #[arg(long, value_name = "ADDRESS")]
    pub control: Option<std::net::SocketAddr>,
    /// A fault, such as busy=0.2 or hide-dots; --help lists all
    #[arg(long = "fault", value_name = "FAULT")]
    pub faults: Vec<String>,
    /// The seed the faults are drawn from
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
}
