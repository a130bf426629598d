//! What is held by the hash of its bytes: put once, however many need it, and taken away when nobody does.

use async_nats::jetstream::object_store::ObjectStore;
use async_nats::jetstream::stream::Stream;
use rallo_media::content_hash;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;
use tokio::io::AsyncReadExt;
use tokio::sync::{OnceCell, RwLock};
use tokio::time::timeout;

/// Bytes that do not go on for so long will not come.
const STALLED: Duration = Duration::from_secs(20);

/// Why bytes could not be handed over, or are not what they should be.
#[derive(Debug, thiserror::Error)]
pub(crate) enum TransferError {
    /// The broker's own words.
    #[error("{0}")]
    Broker(String),
    /// The broker began and did not go on.
    #[error("the broker does not go on with it")]
    Stalled,
    /// More bytes than were told.
    #[error("it has {got} bytes, and at most {most} were told")]
    TooLong {
        /// Bytes there are.
        got: usize,
        /// Bytes that were told.
        most: u64,
    },
    /// Bytes of another hash.
    #[error("its bytes are not those of its hash")]
    OtherBytes,
    /// A file or a piece that no such picture can have.
    #[error("its {0} is larger than such a picture can be")]
    TooLarge(&'static str),
    /// What came is no text, or cannot be read.
    #[error("{0}")]
    Unreadable(String),
    /// Nobody is there to do the work.
    #[error("no other machine is there any more")]
    NobodyThere,
    /// The work itself broke off.
    #[error("{0}")]
    Failed(String),
    /// The program is ending.
    #[error("the fleet is being left")]
    Leaving,
}

/// What the broker says is wrong.
pub(crate) fn broker(e: impl std::fmt::Display) -> TransferError {
    TransferError::Broker(e.to_string())
}

/// The name of a result: two pictures may come to the same bytes, and each has its own to take away.
pub(crate) fn result_name(hash: &str, token: &str) -> String {
    format!("{hash}-{token}")
}

/// The bytes of a hash that are held under a name.
///
/// # Errors
/// Why they cannot be had, or are others.
pub(crate) async fn fetched(
    store: &ObjectStore,
    name: &str,
    hash: &str,
    most: u64,
) -> Result<Vec<u8>, TransferError> {
    let late = |_| TransferError::Stalled;
    let object = timeout(STALLED, store.get(name)).await.map_err(late)?.map_err(broker)?;
    if object.info().size as u64 > most {
        return Err(TransferError::TooLong { got: object.info().size, most });
    }
    let mut bytes = Vec::with_capacity(object.info().size);
    let mut object = object.take(most + 1);
    // Part by part: what was taken away meanwhile never comes.
    while timeout(STALLED, object.read_buf(&mut bytes)).await.map_err(late)?.map_err(broker)? > 0 {}
    if content_hash(&bytes) == hash { Ok(bytes) } else { Err(TransferError::OtherBytes) }
}

/// Puts bytes where they are held under a name.
///
/// # Errors
/// The broker's, such as that there is no room.
pub(crate) async fn put(store: &ObjectStore, name: &str, bytes: &[u8]) -> Result<(), TransferError> {
    let mut bytes = bytes;
    store.put(name, &mut bytes).await.map(drop).map_err(broker)
}

type Held = Arc<OnceCell<()>>;

/// What this machine put there, with how many need it.
#[derive(Clone)]
pub(crate) struct Contents(Arc<Inner>);

struct Inner {
    store: ObjectStore,
    /// What the broker keeps it in.
    stream: Stream,
    held: Mutex<HashMap<String, (usize, Held)>>,
    /// Nothing is taken away while something is put.
    order: RwLock<()>,
}

impl Contents {
    pub fn new(store: ObjectStore, stream: Stream) -> Self {
        Self(Arc::new(Inner { store, stream, held: Mutex::default(), order: RwLock::default() }))
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<String, (usize, Held)>> {
        self.0.held.lock().unwrap_or_else(|p| p.into_inner())
    }

    /// Bytes that are there for as long as the answer lives; they are asked for where they are not there yet.
    ///
    /// # Errors
    /// The broker's.
    pub async fn hold(
        &self,
        hash: &str,
        bytes: impl AsyncFnOnce() -> Result<Arc<Vec<u8>>, TransferError>,
    ) -> Result<Needed, TransferError> {
        let _order = self.0.order.read().await;
        let cell = {
            let mut held = self.lock();
            let (count, cell) = held.entry(hash.to_owned()).or_default();
            *count += 1;
            cell.clone()
        };
        let needed = Needed { of: self.clone(), hash: hash.to_owned() };
        cell.get_or_try_init(async || put(&self.0.store, hash, &bytes().await?).await).await?;
        Ok(needed)
    }

    /// Takes away what nobody needs any more.
    async fn let_go(&self, hash: &str) {
        let _order = self.0.order.write().await;
        let was_last = {
            let mut held = self.lock();
            if held.get(hash).is_none_or(|(count, _)| *count > 0) {
                return;
            }
            held.remove(hash);
            held.is_empty()
        };
        // What was deleted leaves a mark, and its place on the disk; when nothing is needed those go too.
        let gone = if was_last {
            self.0.stream.purge().await.map(drop).map_err(|e| e.to_string())
        } else {
            self.0.store.delete(hash).await.map_err(|e| e.to_string())
        };
        if let Err(e) = gone {
            tracing::debug!("{hash} stays with the broker: {e}");
        }
    }
}

/// Something that is held for somebody.
pub(crate) struct Needed {
    of: Contents,
    hash: String,
}

impl Drop for Needed {
    fn drop(&mut self) {
        let is_last = self.of.lock().get_mut(&self.hash).is_some_and(|(count, _)| {
            *count -= 1;
            *count == 0
        });
        if is_last && let Ok(runtime) = tokio::runtime::Handle::try_current() {
            let (of, hash) = (self.of.clone(), self.hash.clone());
            runtime.spawn(async move { of.let_go(&hash).await });
        }
    }
}
