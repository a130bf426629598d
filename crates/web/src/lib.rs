//! Pages: Axum routes, Askama templates, assets.

use rallo_runner::Roots;
use std::net::SocketAddr;
use std::path::PathBuf;

/// What the server is started with.
pub struct Options {
    /// Allowed folders.
    pub roots: Roots,
    /// The program's own folder.
    pub data: PathBuf,
    /// Port on loopback.
    pub port: u16,
    /// Pictures at a time.
    pub workers: usize,
}
/// A server.
pub struct Server;
impl Server {
    /// Address.
    pub fn address(&self) -> SocketAddr { unimplemented!() }
    /// Runs.
    pub async fn run(self, _s: impl Future<Output = ()>) -> Result<(), std::io::Error> { Ok(()) }
}
/// Binds.
pub async fn bind(_o: Options) -> Result<Server, std::io::Error> { Ok(Server) }
