//! Pages: Axum routes, Askama templates, assets.
//!
//! The pages are rendered on the server; what moves on them (the viewer, the ticket, progress) is plain
//! modules talking to the JSON routes under `/api`. Progress comes as server-sent events.

mod api;
pub mod auth;
mod error;
mod full_quality;
mod guard;
mod pages;
mod request;
mod sources;
mod words;
mod workspace;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use rallo_job::prelude::*;
use rallo_runner::library::watch_folder;
use rallo_runner::{EndCalls, Frames, Queue, QueueOptions, Roots};
use rallo_store::Store;
use sources::Sources;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::sync::Arc;
use tokio::net::TcpListener;

/// Most bytes a request may bring.
const LARGEST_REQUEST: usize = 32_000_000;

/// What the server is started with.
pub struct Options {
    /// Allowed folders.
    pub roots: Roots,
    /// The program's own folder.
    pub data: PathBuf,
    /// Address to listen at; beyond loopback the passphrase is asked for.
    pub listen: IpAddr,
    /// Port; 0 takes a free one.
    pub port: u16,
    /// Names it answers to beside its address, with the port where that is in the address people type.
    pub hosts: Vec<String>,
    /// Asks for the passphrase on loopback too.
    pub locked: bool,
    /// A proxy in front of it speaks HTTPS.
    pub secure: bool,
    /// Pictures worked on at a time.
    pub workers: usize,
    /// A command that is run after each run, with the report on its standard input, or an address it is sent to.
    pub hook: Option<String>,
    /// Other machines that make pictures.
    pub helpers: Option<Arc<dyn rallo_runner::queue::Helpers>>,
    /// Pictures that other machines can make are left to them.
    pub leaves_pictures: bool,
}

/// Why the server did not start.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// The data folder cannot be used.
    #[error("cannot use the data folder {0}: {1}")]
    Data(PathBuf, std::io::Error),
    /// The database cannot be opened.
    #[error("cannot open the program's database {0}: {1}")]
    Store(PathBuf, rallo_store::Error),
    /// The port is taken, or not allowed.
    #[error("cannot listen at {0}: {1}")]
    Port(SocketAddr, std::io::Error),
    /// Nobody could be told from anybody else.
    #[error(
        "this server would be open to the network without a passphrase; set one first with: rallo passphrase"
    )]
    NoPassphrase,
}

/// What every handler shares.
pub(crate) struct Shared {
    store: Store,
    queue: Queue,
    roots: Roots,
    thumbs: PathBuf,
    sources: Sources,
    frames: Frames,
    gathering: api::gather::Gathering,
    camera: api::camera::Camera,
    sequences: api::sequence::Sequences,
    previews: api::preview::Previews,
    full: full_quality::FullQuality,
    kept: api::bench::PrefixCache,
    writers: api::recipes::Writers,
    token: String,
    data: PathBuf,
    door: Door,
}

/// Who is let in, and by which names the server is known.
pub(crate) struct Door {
    hosts: Vec<String>,
    locked: bool,
    secure: bool,
    keeper: auth::Door,
}

impl Door {
    fn new(options: &Options, address: SocketAddr) -> Self {
        let mut hosts = options.hosts.clone();
        hosts.push(address.to_string());
        // Whoever listens everywhere is asked by loopback too.
        if address.ip().is_loopback() || address.ip().is_unspecified() {
            hosts.extend(["127.0.0.1", "localhost", "[::1]"].map(|n| format!("{n}:{}", address.port())));
        }
        let locked = options.locked || !address.ip().is_loopback();
        Self { hosts, locked, secure: options.secure, keeper: auth::Door::default() }
    }
}

pub(crate) type App = Arc<Shared>;

/// A server that listens.
pub struct Server {
    listener: TcpListener,
    address: SocketAddr,
    router: Router,
}

impl Server {
    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Serves until `stop` ends.
    ///
    /// # Errors
    /// The listener's.
    pub async fn run(self, stop: impl Future<Output = ()>) -> std::io::Result<()> {
        // Event streams never end by themselves, so the server does not wait for them.
        tokio::select! {
            served = async { axum::serve(self.listener, self.router).await } => served,
            () = stop => Ok(()),
        }
    }
}

fn token() -> std::io::Result<String> {
    auth::random(16)
}

/// Opens the store, starts the queue and what watches folders, and listens.
///
/// # Errors
/// [`StartError`].
pub async fn bind(options: Options) -> Result<Server, StartError> {
    let data = |e| StartError::Data(options.data.clone(), e);
    let (thumbs, drops) = (options.data.join("thumbs"), api::drops::place(&options.data));
    for folder in [&thumbs, &drops] {
        std::fs::create_dir_all(folder).map_err(data)?;
    }
    let file = options.data.join(rallo_store::FILE);
    let store = Store::open(&file).await.map_err(|e| StartError::Store(file.clone(), e))?;
    let at = SocketAddr::new(options.listen, options.port);
    let port = |e| StartError::Port(at, e);
    let listener = TcpListener::bind(at).await.map_err(port)?;
    let address = listener.local_addr().map_err(port)?;
    let door = Door::new(&options, address);
    if door.locked && !auth::has_passphrase(&store).await.map_err(|e| StartError::Store(file, e))? {
        return Err(StartError::NoPassphrase);
    }
    let token = token().map_err(|e| StartError::Data("/dev/urandom".into(), e))?;
    let roots = options.roots.with_own(&drops).map_err(|e| data(std::io::Error::other(e.to_string())))?;
    let limits = store.setting("limits").await.ok().flatten();
    let limits = limits.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default();
    let records: Arc<dyn rallo_job::Records> = Arc::new(store.clone());
    let queue = Queue::start(
        records.clone(),
        QueueOptions {
            limits,
            end_calls: EndCalls::All(options.hook),
            helpers: options.helpers,
            leaves_pictures: options.leaves_pictures,
            ..QueueOptions::new(options.workers)
        },
    );
    tokio::spawn(watch_folder::watch(records.clone(), queue.clone(), roots.clone()));
    let app = Arc::new(Shared {
        previews: api::preview::Previews::new(queue.measurements().clone()),
        queue,
        roots,
        thumbs,
        sources: Sources::default(),
        frames: Frames::start(records),
        gathering: api::gather::Gathering::default(),
        camera: api::camera::Camera::default(),
        sequences: api::sequence::Sequences::default(),
        full: full_quality::FullQuality::default(),
        kept: api::bench::PrefixCache::default(),
        writers: api::recipes::Writers::default(),
        token,
        data: options.data,
        door,
        store,
    });
    tokio::spawn(api::drops::tidy(app.clone()));
    let router = pages::routes()
        .merge(api::openapi::served())
        // Recipes carry tables of colours, logos and profiles inside.
        .layer(DefaultBodyLimit::max(LARGEST_REQUEST))
        .layer(axum::middleware::from_fn_with_state(app.clone(), guard::guard))
        .with_state(app);
    Ok(Server { listener, address, router: guard::wrapped(router) })
}
