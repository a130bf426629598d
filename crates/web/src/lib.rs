//! Pages: Axum routes, Askama templates, assets.
//!
//! The pages are rendered on the server; what moves on them (the viewer, the ticket, progress) is plain
//! modules talking to the JSON routes under `/api`. Progress comes as server-sent events.

mod api;
mod desk;
mod error;
mod guard;
mod pages;
mod sources;
mod truth;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use rallo_runner::{Frames, Queue, Roots};
use rallo_store::Store;
use sources::Sources;
use std::net::{Ipv4Addr, SocketAddr};
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
    /// Port on loopback; 0 takes a free one.
    pub port: u16,
    /// Pictures worked on at a time.
    pub workers: usize,
    /// A command that is run after each run, with the report on its standard input.
    pub hook: Option<String>,
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
    #[error("cannot listen on port {0}: {1}")]
    Port(u16, std::io::Error),
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
    truth: Arc<truth::Truth>,
    kept: api::bench::KeptParts,
    token: String,
    port: u16,
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
    let mut bytes = [0u8; 16];
    std::io::Read::read_exact(&mut std::fs::File::open("/dev/urandom")?, &mut bytes)?;
    Ok(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

/// Opens the store, starts the queue and listens on loopback.
///
/// # Errors
/// [`StartError`].
pub async fn bind(options: Options) -> Result<Server, StartError> {
    let thumbs = options.data.join("thumbs");
    std::fs::create_dir_all(&thumbs).map_err(|e| StartError::Data(options.data.clone(), e))?;
    let file = options.data.join("rallo.sqlite");
    let store = Store::open(&file).await.map_err(|e| StartError::Store(file, e))?;
    let port = |e| StartError::Port(options.port, e);
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, options.port)).await.map_err(port)?;
    let address = listener.local_addr().map_err(port)?;
    let token = token().map_err(|e| StartError::Data("/dev/urandom".into(), e))?;
    let limits = store.setting("limits").await.ok().flatten();
    let limits = limits.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default();
    let queue = Queue::start(store.clone(), options.workers, limits, options.hook);
    let app = Arc::new(Shared {
        queue,
        roots: options.roots,
        thumbs,
        sources: Sources::default(),
        frames: Frames::start(store.clone()),
        gathering: api::gather::Gathering::default(),
        camera: api::camera::Camera::default(),
        truth: Arc::default(),
        kept: api::bench::KeptParts::default(),
        token,
        port: address.port(),
        store,
    });
    let router = pages::routes()
        .merge(api::routes())
        // Recipes carry tables of colours, logos and profiles inside.
        .layer(DefaultBodyLimit::max(LARGEST_REQUEST))
        .layer(axum::middleware::from_fn_with_state(app.clone(), guard::guard))
        .with_state(app);
    Ok(Server { listener, address, router })
}
