//! The `rallo` program: serves the pages, and does the same work from the command line.
//!
//! Exit status: 0 all well, 1 some pictures failed, 2 wrong use.

mod commands;
mod desktop;
mod docs;
mod fleet;
mod queue;
mod sequence;
mod ways;

use clap::{Args, Parser, Subcommand};
use sequence::SequenceCommand;
use std::path::PathBuf;
use std::process::ExitCode;

/// Pictures are large blocks of memory that come and go: in large pages they take a third of the system's time (`.cargo/config.toml`
/// says how it works).
#[global_allocator]
static MEMORY: tikv_jemallocator::Jemalloc = tikv_jemallocator::Jemalloc;

/// Records a processing recipe once on one picture and runs it over the rest.
#[derive(Parser)]
#[command(name = "rallo", version, about)]
struct Cli {
    /// Folder for the program's own data [default: what RALLO_DATA says, or where the platform keeps such data].
    #[arg(long, global = true, value_name = "DIR")]
    data: Option<PathBuf>,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Serve the pages.
    Serve(Serve),
    /// Draw the demo pictures into a folder (the catalogue, the fixed camera's cards, the lesson); what is there
    /// already is kept.
    Demo(Demo),
    /// Let the simulated interval camera shoot into a folder.
    Camera(Camera),
    /// Run a recipe over a folder.
    Run(Run),
    /// The light of a sequence's frames, and which of them stay.
    #[command(subcommand)]
    Sequence(SequenceCommand),
    /// Put runs in the queue and see to them; a running server takes them up by itself.
    Queue {
        /// What is printed is JSON.
        #[arg(long, global = true)]
        json: bool,
        /// What to do.
        #[command(subcommand)]
        command: QueueCommand,
    },
    /// Work on what waits in the queue, beside a running server or without one.
    Worker(Worker),
    /// Other machines that help a server.
    Fleet {
        /// As JSON.
        #[arg(long)]
        json: bool,
        /// What to do.
        #[command(subcommand)]
        command: FleetCommand,
    },
    /// Folders that are watched: a recipe runs on whatever arrives while a server is there.
    #[command(subcommand)]
    Watch(WatchCommand),
    /// Tokens for scripts that use the server's HTTP interface.
    #[command(subcommand)]
    Token(TokenCommand),
    /// Set the passphrase that a server asks for, read from the standard input; every session ends.
    Passphrase,
    /// Menu entries for file managers.
    #[command(subcommand)]
    Desktop(DesktopCommand),
    /// Render one picture, or a part of it, through a recipe.
    Render(Render),
    /// Say what is known of a picture.
    Inspect {
        /// The picture.
        picture: PathBuf,
        /// As JSON.
        #[arg(long)]
        json: bool,
    },
    /// Measure how soft lenses draw, in the middle and in the corners, on the edges of pictures taken with them; what is
    /// kept is used by the line Capture sharpening.
    Lens {
        /// Folders or pictures.
        #[arg(required = true)]
        from: Vec<PathBuf>,
        /// Keep what was measured.
        #[arg(long)]
        keep: bool,
        /// As JSON.
        #[arg(long)]
        json: bool,
    },
    /// Take the frames of a clip out into a folder beside it, as PNG, to work on them as a sequence.
    Frames {
        /// The clip.
        clip: PathBuf,
        /// Only every so-manieth frame.
        #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=100_000))]
        every: u32,
    },
    /// Make a PDF of pictures smaller: its pictures are reduced and compressed again, nothing else changes.
    Smaller {
        /// The PDF.
        pdf: PathBuf,
        /// The PDF to write.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
        /// Pixels an inch that pictures have at most.
        #[arg(long, default_value_t = 150, value_parser = clap::value_parser!(u32).range(36..=1200))]
        ppi: u32,
        /// Their quality.
        #[arg(long, default_value_t = 80, value_parser = clap::value_parser!(u8).range(1..=100))]
        quality: u8,
    },
    /// Check recipes and show their schema.
    #[command(subcommand)]
    Recipe(RecipeCommand),
    /// List every step with its parameters, units, ranges and defaults. Amounts without a unit run from −100 to
    /// 100 with 0 neutral, or from 0 to 100 where only one direction makes sense; the range says which.
    Steps {
        /// As JSON.
        #[arg(long)]
        json: bool,
        /// Writes the page about all steps into this folder instead.
        #[arg(long)]
        docs: Option<PathBuf>,
        /// With --docs: makes the small pictures from this one; given twice, those of the denoise from the second.
        #[arg(long)]
        sample: Vec<PathBuf>,
    },
}

/// `rallo serve`.
#[derive(Args)]
pub struct Serve {
    /// Folder that may be read and written (may be given several times) [default: the pictures folder of the desktop].
    #[arg(long = "root", value_name = "DIR")]
    pub roots: Vec<PathBuf>,
    /// Without --root the browser is opened once the pages are there; not so with this.
    #[arg(long)]
    pub no_open: bool,
    /// Port; 0 takes a free one.
    #[arg(long, default_value_t = 4680)]
    pub port: u16,
    /// Address to listen at; beyond this machine the passphrase is asked for (see rallo passphrase).
    #[arg(long, value_name = "IP", default_value = "127.0.0.1")]
    pub listen: std::net::IpAddr,
    /// A name it answers to, as people type it into the browser, with the port if there is one (several times).
    #[arg(long = "host", value_name = "NAME")]
    pub hosts: Vec<String>,
    /// Ask for the passphrase on this machine too.
    #[arg(long)]
    pub locked: bool,
    /// A proxy in front speaks HTTPS: cookies are marked for that.
    #[arg(long)]
    pub secure: bool,
    /// Pictures worked on at a time [default: the number of cores].
    #[arg(long)]
    pub workers: Option<usize>,
    /// A command for the shell that is run after each run, with the report (JSON) on its standard input; or an address
    /// (http://, https://) that the report is sent to.
    #[arg(long, value_name = "COMMAND")]
    pub after_run: Option<String>,
    /// Other machines that help.
    #[command(flatten)]
    pub joins: Joins,
    /// With --fleet: pictures that other machines can make are left to them.
    #[arg(long, requires = "fleet")]
    pub leave_pictures: bool,
    /// With --fleet: gigabytes of originals, and of results, that the broker holds at most.
    #[arg(long, value_name = "GB", requires = "fleet")]
    pub fleet_room: Option<u64>,
    /// With --fleet: a folder that other machines have too, under a name they know it by (several times). What lies there is not
    /// carried to them.
    #[arg(long = "share", value_name = "NAME=FOLDER", requires = "fleet")]
    pub shares: Vec<rallo_fleet::Share>,
}

/// Where machines that work together meet.
#[derive(Args)]
pub struct Joins {
    /// The broker by which several machines work together, such as nats://studio:4222.
    #[arg(long, value_name = "ADDRESS")]
    pub fleet: Option<String>,
    /// A file with what the broker asks for: a token, or user:password.
    #[arg(long, value_name = "FILE", requires = "fleet")]
    pub fleet_login: Option<PathBuf>,
    /// A file with the certificates (PEM) that the broker's own is signed by; nothing but TLS is spoken then.
    #[arg(long, value_name = "FILE", requires = "fleet")]
    pub fleet_authority: Option<PathBuf>,
}

/// `rallo fleet …`.
#[derive(Subcommand)]
pub enum FleetCommand {
    /// Which machines help, and what they do.
    Status(Joins),
    /// Let a machine end what it has in work, and go.
    SendHome {
        /// Its name, as the status says it.
        name: String,
        /// The broker.
        #[command(flatten)]
        joins: Joins,
    },
}

/// `rallo demo`.
#[derive(Args)]
pub struct Demo {
    /// Folder for the pictures.
    pub folder: PathBuf,
    /// Only the catalogue's stills, into the folder itself.
    #[arg(long)]
    pub catalogue: bool,
    /// The same seed gives the same bytes.
    #[arg(long, default_value_t = 24)]
    pub seed: u64,
}

/// `rallo camera`.
#[derive(Args)]
pub struct Camera {
    /// Folder the camera writes into.
    pub folder: PathBuf,
    /// Frames to take.
    #[arg(long, default_value_t = 20)]
    pub frames: usize,
    /// Seconds to wait between frames.
    #[arg(long, default_value_t = 1.0)]
    pub every: f64,
    /// Seconds between frames on the camera's clock.
    #[arg(long, default_value_t = 900.0)]
    pub interval: f64,
    /// What the clock says at the start, such as 2026-04-12T07:00:00.
    #[arg(long)]
    pub clock: Option<jiff::civil::DateTime>,
    /// Number of the first frame in the names.
    #[arg(long, default_value_t = 1)]
    pub first: usize,
    /// Frames (from 1) that are not taken.
    #[arg(long, value_delimiter = ',')]
    pub missed: Vec<usize>,
    /// Frames that are taken twice, two seconds apart.
    #[arg(long, value_delimiter = ',')]
    pub double: Vec<usize>,
    /// FRAME:SECONDS, from which frame on the clock is wrong, by how much more.
    #[arg(long, value_delimiter = ',', allow_hyphen_values = true)]
    pub jump: Vec<String>,
}

/// `rallo worker`.
#[derive(Args)]
pub struct Worker {
    /// Ends when nothing waits any more.
    #[arg(long)]
    pub until_empty: bool,
    /// Pictures at a time [default: the number of cores].
    #[arg(long)]
    pub workers: Option<usize>,
    /// Another machine's runs, by a broker; nothing else is shared with it.
    #[command(flatten)]
    pub joins: Joins,
    /// With --fleet: a folder that the server shares under this name, and where it is here (several times). What lies there is read
    /// here and not sent.
    #[arg(long = "share", value_name = "NAME=FOLDER", requires = "fleet")]
    pub shares: Vec<rallo_fleet::Share>,
}

/// `rallo queue …`.
#[derive(Subcommand)]
pub enum QueueCommand {
    /// Put a run at the end of the queue.
    Add {
        /// What on what.
        #[command(flatten)]
        pick: Box<Pick>,
        /// Not before this time, such as 2026-05-04T22:00:00Z.
        #[arg(long)]
        at: Option<String>,
        /// After so many failures the run pauses.
        #[arg(long, value_name = "N")]
        most_failures: Option<i64>,
        /// A command for the shell that is run when it has ended, with the report (JSON) on its standard input; or an
        /// address that the report is sent to.
        #[arg(long, value_name = "COMMAND")]
        then: Option<String>,
    },
    /// What waits and what is at work.
    List,
    /// Let a run pause after the pictures in work.
    Pause {
        /// Its number.
        run: i64,
    },
    /// Let a paused run go on.
    GoOn {
        /// Its number.
        run: i64,
    },
    /// Cancel a run; what is done stays.
    Cancel {
        /// Its number.
        run: i64,
    },
    /// Let a run come before all others.
    First {
        /// Its number.
        run: i64,
    },
    /// Try a run's failed pictures again.
    Retry {
        /// Its number.
        run: i64,
    },
    /// Print a run's report as JSON.
    Report {
        /// Its number.
        run: i64,
        /// As a table instead (CSV).
        #[arg(long)]
        csv: bool,
    },
    /// Remove what a run wrote, as far as it is unchanged.
    Undo {
        /// Its number.
        run: i64,
    },
}

/// `rallo watch …`.
#[derive(Subcommand)]
pub enum WatchCommand {
    /// Set one up.
    Add {
        /// The recipe file.
        recipe: PathBuf,
        /// Where pictures arrive; it must lie in a folder the server may use.
        #[arg(long, value_name = "DIR")]
        folder: PathBuf,
        /// With sub-folders.
        #[arg(long)]
        deep: bool,
        /// Folder for the results, instead of the recipe's.
        #[arg(long, value_name = "DIR")]
        to: Option<PathBuf>,
        /// What to call it [default: the folder's name].
        #[arg(long)]
        name: Option<String>,
        /// Once a day at this time, such as 02:30, instead of at once.
        #[arg(long, value_name = "HH:MM")]
        daily: Option<String>,
        /// A value, such as 3.stops=0.5 for the third line.
        #[arg(long = "set", value_name = "LINE.PARAMETER=VALUE")]
        answers: Vec<String>,
        /// A command that is run after each of its runs, with the report on its standard input; or an address.
        #[arg(long, value_name = "COMMAND")]
        then: Option<String>,
        /// As JSON.
        #[arg(long)]
        json: bool,
    },
    /// What is watched.
    List {
        /// As JSON.
        #[arg(long)]
        json: bool,
    },
    /// Let one pause; what arrives meanwhile is taken in later.
    Pause {
        /// Its number.
        watch: i64,
    },
    /// Let it go on.
    GoOn {
        /// Its number.
        watch: i64,
    },
    /// Take it away; runs and results stay.
    Remove {
        /// Its number.
        watch: i64,
    },
}

/// `rallo token …`.
#[derive(Subcommand)]
pub enum TokenCommand {
    /// Make one and print it, this once.
    Add {
        /// What it is for.
        name: String,
    },
    /// The tokens there are, without their secrets.
    List,
    /// Take one away.
    Remove {
        /// Its number.
        token: i64,
    },
}

/// `rallo desktop …`.
#[derive(Subcommand)]
pub enum DesktopCommand {
    /// Write a menu entry for each recipe file: pictures can be opened with it, or dropped on it.
    Install {
        /// The recipe files.
        #[arg(required = true)]
        recipes: Vec<PathBuf>,
        /// Where entries are written [default: the user's own applications].
        #[arg(long, value_name = "DIR")]
        applications: Option<PathBuf>,
    },
    /// Take away the entries that were written.
    Remove {
        /// Where entries were written [default: the user's own applications].
        #[arg(long, value_name = "DIR")]
        applications: Option<PathBuf>,
    },
    /// What an entry runs: a recipe on some pictures.
    #[command(hide = true)]
    Open {
        /// The recipe file.
        recipe: PathBuf,
        /// Pictures, or folders of them; file:// addresses too.
        pictures: Vec<String>,
    },
}

/// What to run on what.
#[derive(Args)]
pub struct Pick {
    /// The recipe file.
    pub recipe: PathBuf,
    /// Folder with the pictures.
    #[arg(long, value_name = "DIR", required_unless_present = "shoot")]
    pub from: Option<PathBuf>,
    /// A shoot document instead of a folder: its frames in the work, in its order.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["from", "recursive"])]
    pub shoot: Option<PathBuf>,
    /// Folder for the results, instead of the recipe's.
    #[arg(long, value_name = "DIR")]
    pub to: Option<PathBuf>,
    /// A value for this run, such as 3.stops=0.5 for the third line; for what the recipe asks at its start, or any other.
    #[arg(long = "set", value_name = "LINE.PARAMETER=VALUE")]
    pub answers: Vec<String>,
    /// With sub-folders.
    #[arg(long)]
    pub recursive: bool,
    /// Only the frames that stay when they are sent through these passes, as JSON.
    #[arg(long, value_name = "FILE")]
    pub sieve: Option<PathBuf>,
}

/// `rallo run`.
#[derive(Args)]
pub struct Run {
    /// What on what.
    #[command(flatten)]
    pub pick: Pick,
    /// Pictures at a time [default: the number of cores].
    #[arg(long)]
    pub workers: Option<usize>,
    /// Write a report as JSON.
    #[arg(long, value_name = "FILE")]
    pub report: Option<PathBuf>,
    /// Print nothing but failures.
    #[arg(long)]
    pub quiet: bool,
    /// Yes to every checkpoint of the recipe, without looking.
    #[arg(long)]
    pub yes: bool,
}

/// `rallo render`.
#[derive(Args)]
pub struct Render {
    /// The recipe file.
    pub recipe: PathBuf,
    /// The picture.
    pub picture: PathBuf,
    /// The file to write, .jpg or .png; an existing file is left alone.
    pub out: PathBuf,
    /// Only this part of the result, in its pixels at the scale: X,Y,W,H.
    #[arg(long, value_name = "X,Y,W,H")]
    pub region: Option<String>,
    /// Scale of the result, 1 for the final file.
    #[arg(long, default_value_t = 1.0)]
    pub scale: f64,
    /// Never decode reduced (to measure what that changes).
    #[arg(long)]
    pub full_detail: bool,
}

#[derive(Subcommand)]
enum RecipeCommand {
    /// Check a recipe file and say it in plain sentences.
    Check {
        /// The file.
        file: PathBuf,
    },
    /// Print the JSON Schema.
    Schema,
    /// Write the settings sheet: every line and delivery in plain sentences, as a PDF.
    Sheet {
        /// The recipe file.
        file: PathBuf,
        /// The PDF to write.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
        /// A picture to show before and after on.
        #[arg(long, value_name = "FILE")]
        sample: Option<PathBuf>,
    },
}

/// The program's own folder. Lens and camera profiles that lie in it are known from then on.
fn data_folder(given: Option<PathBuf>) -> Result<PathBuf, String> {
    let folder = given
        .or_else(|| std::env::var_os("RALLO_DATA").map(PathBuf::from))
        .or_else(|| directories::ProjectDirs::from("", "", "rallo").map(|d| d.data_dir().to_owned()))
        .ok_or("cannot tell where to keep the program's data; say --data DIR")?;
    for (file, why) in rallo_engine::lens::add_folder(&folder.join("lens-profiles")) {
        eprintln!("{} is passed over: {why}", file.display());
    }
    for (file, why) in rallo_media::camera_profiles::add_folder(&folder.join("camera-profiles")) {
        eprintln!("{} is passed over: {why}", file.display());
    }
    Ok(folder)
}

fn main() -> ExitCode {
    let cli = Cli::parse();
    let done = match cli.command {
        Command::Serve(args) => data_folder(cli.data).and_then(|data| commands::serve(&args, &data)),
        Command::Demo(args) => commands::demo(&args),
        Command::Camera(args) => commands::camera(&args),
        Command::Run(args) => data_folder(cli.data).and_then(|data| queue::run(&args, &data)),
        Command::Queue { json, command } => {
            data_folder(cli.data).and_then(|data| queue::queue(&command, json, &data))
        }
        Command::Worker(args) => data_folder(cli.data).and_then(|data| match args.joins.fleet {
            Some(_) => fleet::help(&args, &data),
            None => queue::worker(&args, &data),
        }),
        Command::Fleet { json, command } => fleet::fleet(&command, json),
        Command::Watch(command) => data_folder(cli.data).and_then(|data| ways::watch(&command, &data)),
        Command::Token(command) => data_folder(cli.data).and_then(|data| ways::token(&command, &data)),
        Command::Passphrase => data_folder(cli.data).and_then(|data| ways::passphrase(&data)),
        Command::Desktop(command) => data_folder(cli.data).and_then(|data| desktop::desktop(&command, &data)),
        Command::Render(args) => commands::render(&args),
        Command::Sequence(command) => data_folder(cli.data).and_then(|data| match &command {
            SequenceCommand::Measure(frames) => sequence::measure(frames, &data),
            SequenceCommand::Sieve { frames, passes, suggest } => {
                let write = suggest.as_ref().and_then(Option::as_deref);
                sequence::sieved(frames, passes.as_deref(), write, &data)
            }
            SequenceCommand::Align(args) => sequence::align(args),
        }),
        Command::Lens { from, keep, json } => {
            data_folder(cli.data).and_then(|data| commands::lens(&from, keep, json, &data))
        }
        Command::Inspect { picture, json } => commands::inspect(&picture, json),
        Command::Frames { clip, every } => commands::frames(&clip, every),
        Command::Smaller { pdf, out, ppi, quality } => commands::smaller(&pdf, &out, ppi, quality),
        Command::Recipe(RecipeCommand::Check { file }) => commands::check(&file),
        Command::Recipe(RecipeCommand::Sheet { file, out, sample }) => {
            commands::sheet(&file, &out, sample.as_deref())
        }
        Command::Recipe(RecipeCommand::Schema) => commands::print(&rallo_recipe::schema::schema()),
        Command::Steps { docs: Some(folder), sample, .. } => {
            docs::write(&folder, &sample).map(|()| ExitCode::SUCCESS)
        }
        Command::Steps { json, .. } => commands::steps(json),
    };
    match done {
        Ok(code) => code,
        Err(message) => {
            eprintln!("rallo: {message}");
            ExitCode::from(2)
        }
    }
}
