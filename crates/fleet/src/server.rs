//! The serving machine's side: pictures are handed out, what comes back is looked at and given to the queue.
//!
//! Records and files stay with the queue; here is only what is under way. So a server that was killed begins by taking away what an
//! earlier one left with the broker, and the queue hands its items out anew.

use crate::broker::{
    BEAT, Broker, BrokerOptions, FleetError, HELLO, HOME, LEASE, ORIGINALS, RESULTS, STATUS, WORK,
    consumer_name, refused, work_subject,
};
use crate::content::{Contents, TransferError, broker, fetched, result_name};
use crate::equipment;
use crate::message::{Assignment, Hello, Home, Outcome, Reply, Sent, Status, written};
use async_nats::Message;
use async_nats::jetstream::consumer::{AckPolicy, pull};
use async_nats::jetstream::object_store::ObjectStore;
use async_nats::jetstream::stream::{self, RetentionPolicy};
use async_trait::async_trait;
use futures_util::StreamExt;
use rallo_media::content_hash;
use rallo_runner::queue::{FromHelper, Helper, Helpers, NotMade};
use rallo_runner::render::elsewhere::{MadeFile, MadePicture, MadePiece, PictureRequest, most_bytes};
use rallo_runner::render::fault::Fault;
use std::collections::{HashMap, HashSet, VecDeque};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};
use tokio::sync::{RwLock, oneshot};

/// A machine that was not heard of for so long is gone.
const GONE: Duration = Duration::from_secs(10);
/// It is shown for so much longer.
const REMEMBERED: Duration = Duration::from_secs(600);
/// Work that nobody is there for comes back after this.
const NOBODY: Duration = Duration::from_secs(30);
/// What a kind of work is told by is looked at anew after this.
const KIND_HOLDS: Duration = Duration::from_secs(2);

/// The largest piece that is taken: 400 megapixels of three samples of 16 bits.
const LARGEST_PIECE: u64 = 2_400_000_000;

/// A machine as it was last heard of.
struct Known {
    hello: Hello,
    seen: Instant,
    /// When it made something lately.
    made: VecDeque<Instant>,
}

/// What is known of all of them.
#[derive(Default)]
struct Roll {
    known: HashMap<String, Known>,
    /// Those that are to go.
    sent_home: HashSet<String>,
    /// Those that gave what was not believed, and why.
    distrusted: HashMap<String, String>,
    kind: String,
    kind_seen: Option<Instant>,
}

struct Inner {
    broker: Broker,
    address: String,
    data: PathBuf,
    name: String,
    answer: String,
    stream: stream::Stream,
    contents: Contents,
    results: ObjectStore,
    results_kept_in: stream::Stream,
    /// Held for reading by every picture that is under way.
    under_way: RwLock<()>,
    roll: Mutex<Roll>,
    /// Consumers that were made, by the kind of work.
    consumers: tokio::sync::Mutex<HashSet<String>>,
    /// Who waits for a picture, by its token.
    pending: Mutex<HashMap<String, oneshot::Sender<Outcome>>>,
}

/// What is said to a message.
type Answer = fn(&Fleet, Message) -> Vec<u8>;

/// The machines that help this one.
#[derive(Clone)]
pub struct Fleet(Arc<Inner>);

fn token() -> String {
    let mut bytes = [0u8; 16];
    // Without chance nobody could be told from anybody: then nothing comes back, and all is made here.
    let _ = getrandom::fill(&mut bytes);
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// What a machine is called.
pub(crate) fn machine() -> String {
    rustix::system::uname().nodename().to_string_lossy().into_owned()
}

impl Fleet {
    /// Connects as the one who hands out work; `data` is the program's folder. The broker may hold so many bytes of pictures.
    ///
    /// # Errors
    /// [`FleetError`].
    pub async fn serve(options: &BrokerOptions, data: &Path, most: Option<i64>) -> Result<Self, FleetError> {
        let broker = Broker::connect(options).await?;
        if broker.client.request(STATUS, "".into()).await.is_ok() {
            return Err(FleetError::SecondServer);
        }
        // What an earlier server left is nobody's any more.
        for left in [format!("OBJ_{ORIGINALS}"), format!("OBJ_{RESULTS}"), WORK.to_owned()] {
            let _ = broker.context.delete_stream(&left).await;
        }
        let stream = broker
            .context
            .create_stream(stream::Config {
                name: WORK.into(),
                subjects: vec![work_subject("*")],
                retention: RetentionPolicy::WorkQueue,
                ..stream::Config::default()
            })
            .await
            .map_err(refused("to keep work"))?;
        let (originals, kept_in) = broker.made_bucket(ORIGINALS, most).await?;
        let (results, results_kept_in) = broker.made_bucket(RESULTS, most).await?;
        let name = token();
        let fleet = Self(Arc::new(Inner {
            answer: format!("rallo.done.{name}"),
            broker,
            address: options.address.clone(),
            data: data.to_owned(),
            name,
            stream,
            contents: Contents::new(originals, kept_in),
            results,
            results_kept_in,
            under_way: RwLock::default(),
            roll: Mutex::default(),
            consumers: tokio::sync::Mutex::default(),
            pending: Mutex::default(),
        }));
        let kind = fleet.kind();
        fleet.consumer(&kind).await.map_err(refused("to hand out work"))?;
        let heard: [(String, Answer); 4] = [
            (HELLO.into(), Self::greeted),
            (STATUS.into(), |fleet, _| written(&Status { server: machine(), helpers: fleet.helpers() })),
            (HOME.into(), |fleet, message| {
                let home: Option<Home> = serde_json::from_slice(&message.payload).ok();
                written(&home.is_some_and(|home| fleet.sent_home(&home.name)))
            }),
            (fleet.0.answer.clone(), Self::answered),
        ];
        for (subject, answer) in heard {
            let mut messages =
                fleet.0.broker.client.subscribe(subject).await.map_err(refused("to listen"))?;
            let fleet = fleet.clone();
            tokio::spawn(async move {
                while let Some(message) = messages.next().await {
                    let reply = message.reply.clone();
                    let said = answer(&fleet, message);
                    if let Some(reply) = reply
                        && let Err(e) = fleet.0.broker.client.publish(reply, said.into()).await
                    {
                        tracing::warn!("the broker takes no answer: {e}");
                    }
                }
            });
        }
        Ok(fleet)
    }

    fn roll(&self) -> MutexGuard<'_, Roll> {
        self.0.roll.lock().unwrap_or_else(|p| p.into_inner())
    }

    fn pending(&self) -> MutexGuard<'_, HashMap<String, oneshot::Sender<Outcome>>> {
        self.0.pending.lock().unwrap_or_else(|p| p.into_inner())
    }

    /// The kind of work that is handed out now; profiles may have come.
    fn kind(&self) -> String {
        let mut roll = self.roll();
        if roll.kind_seen.is_none_or(|seen| seen.elapsed() > KIND_HOLDS) {
            roll.kind = equipment::kind(&self.0.data);
            roll.kind_seen = Some(Instant::now());
        }
        roll.kind.clone()
    }

    /// Lets machines take work of a kind.
    async fn consumer(&self, kind: &str) -> Result<(), TransferError> {
        let mut made = self.0.consumers.lock().await;
        if made.contains(kind) {
            return Ok(());
        }
        let config = pull::Config {
            durable_name: Some(consumer_name(kind)),
            filter_subject: work_subject(kind),
            ack_policy: AckPolicy::Explicit,
            ack_wait: LEASE,
            max_ack_pending: 100_000,
            ..pull::Config::default()
        };
        self.0.stream.create_consumer(config).await.map_err(broker)?;
        made.insert(kind.to_owned());
        Ok(())
    }

    /// A machine says how it stands.
    fn greeted(&self, message: Message) -> Vec<u8> {
        let Ok(hello) = serde_json::from_slice::<Hello>(&message.payload) else {
            return written(&Reply { refused: Some("it cannot be understood".into()), home: false });
        };
        let kind = self.kind();
        let mut roll = self.roll();
        let home = roll.sent_home.contains(&hello.name);
        let refused = roll.refusal(&hello, &kind);
        let now = Instant::now();
        let known = roll.known.entry(hello.name.clone()).or_insert_with(|| Known {
            hello: hello.clone(),
            seen: now,
            made: VecDeque::new(),
        });
        (known.hello, known.seen) = (hello, now);
        roll.known.retain(|_, known| known.seen.elapsed() < REMEMBERED);
        written(&Reply { refused, home })
    }

    /// A picture came back; whether somebody waits for it.
    fn answered(&self, message: Message) -> Vec<u8> {
        let Ok(outcome) = serde_json::from_slice::<Outcome>(&message.payload) else {
            return written(&false);
        };
        let Some(waits) = self.pending().remove(&outcome.token) else { return written(&false) };
        let now = Instant::now();
        if let Some(known) = self.roll().known.get_mut(&outcome.helper) {
            known.made.push_back(now);
            while known.made.front().is_some_and(|t| t.elapsed() > Duration::from_secs(60)) {
                known.made.pop_front();
            }
        }
        written(&waits.send(outcome).is_ok())
    }

    fn sent_home(&self, name: &str) -> bool {
        let mut roll = self.roll();
        let is_here = roll.known.get(name).is_some_and(|known| known.seen.elapsed() < GONE);
        if is_here {
            roll.sent_home.insert(name.to_owned());
        }
        is_here
    }

    /// Whether nobody is there who may have work, or get some; who leaves ends what it has first.
    fn is_alone(&self) -> bool {
        let kind = self.kind();
        let roll = self.roll();
        !roll.known.values().any(|known| roll.is_here(known, &kind))
    }

    /// Hands a picture out, and waits until somebody made it, or nobody is there.
    async fn handed_out(
        &self,
        mut request: PictureRequest,
        original: Vec<u8>,
    ) -> Result<Outcome, TransferError> {
        let inner = &*self.0;
        let kind = self.kind();
        self.consumer(&kind).await?;
        let _original = inner.contents.hold(&request.source, &original).await?;
        drop(original);
        let recipe = content_hash(request.recipe.as_bytes());
        let _recipe = inner.contents.hold(&recipe, request.recipe.as_bytes()).await?;
        request.recipe = recipe;
        let token = token();
        let (tell, told) = oneshot::channel();
        self.pending().insert(token.clone(), tell);
        // Whoever no longer waits is forgotten.
        let _pending = Pending(self.clone(), token.clone());
        let assignment = Assignment { token, answer: inner.answer.clone(), request };
        let published = inner.broker.context.publish(work_subject(&kind), written(&assignment).into()).await;
        let kept = published.map_err(broker)?.await.map_err(broker)?;
        let mut last_seen = Instant::now();
        let mut told = told;
        loop {
            tokio::select! {
                outcome = &mut told => {
                    return outcome.map_err(|_| TransferError::Leaving);
                }
                () = tokio::time::sleep(BEAT) => {}
            }
            if !self.is_alone() {
                last_seen = Instant::now();
            } else if last_seen.elapsed() > NOBODY {
                // Where the broker is gone too, there is nothing to take back.
                let _ = tokio::time::timeout(BEAT, inner.stream.delete_message(kept.sequence)).await;
                return Err(TransferError::NobodyThere);
            }
        }
    }

    /// The bytes of something that somebody made.
    async fn result(&self, token: &str, hash: &str, length: u64) -> Result<Vec<u8>, TransferError> {
        fetched(&self.0.results, &result_name(hash, token), hash, length).await
    }

    /// What somebody made.
    async fn received(&self, token: &str, sent: &Sent) -> Result<MadePicture, TransferError> {
        let mut made = MadePicture::default();
        for file in &sent.files {
            if file.length > most_bytes(file.width, file.height) {
                return Err(TransferError::TooLarge("result"));
            }
            let bytes = self.result(token, &file.hash, file.length).await?;
            made.files.push(MadeFile {
                variant: file.variant,
                bytes,
                width: file.width,
                height: file.height,
            });
        }
        for piece in &sent.pieces {
            if piece.length > LARGEST_PIECE {
                return Err(TransferError::TooLarge("piece"));
            }
            let bytes = self.result(token, &piece.hash, piece.length).await?;
            made.pieces.push(MadePiece { task: piece.task, sent: piece.sent, bytes });
        }
        Ok(made)
    }
}

/// Somebody who waits for a picture.
struct Pending(Fleet, String);

impl Drop for Pending {
    fn drop(&mut self) {
        self.0.pending().remove(&self.1);
    }
}

impl Roll {
    /// Whether a machine was heard of, and can do this kind of work.
    fn is_here(&self, known: &Known, kind: &str) -> bool {
        known.seen.elapsed() < GONE && self.refusal(&known.hello, kind).is_none()
    }

    /// Why a machine gets nothing to do, if so.
    fn refusal(&self, hello: &Hello, kind: &str) -> Option<String> {
        if let Some(why) = self.distrusted.get(&hello.name) {
            return Some(format!("what it gave was not believed: {why}"));
        }
        if hello.kind == kind {
            return None;
        }
        let own = equipment::version();
        Some(if hello.version == own {
            "its lens or camera profiles are others: copy lens-profiles and camera-profiles from the server's folder \
             into its own, and start it again"
                .into()
        } else {
            format!("it is version {}, and the server {own}: results would differ", hello.version)
        })
    }
}

#[async_trait]
impl Helpers for Fleet {
    fn address(&self) -> Option<String> {
        Some(self.0.address.clone())
    }

    fn room(&self) -> usize {
        let kind = self.kind();
        let roll = self.roll();
        let helps = |known: &&Known| {
            roll.is_here(known, &kind) && !known.hello.leaves && !roll.sent_home.contains(&known.hello.name)
        };
        roll.known.values().filter(helps).map(|known| known.hello.room.min(4096)).sum()
    }

    async fn make(&self, request: PictureRequest, original: Vec<u8>) -> Result<FromHelper, NotMade> {
        let under_way = self.0.under_way.read().await;
        let outcome = self.handed_out(request, original).await.map_err(|e| NotMade::Nobody(e.to_string()))?;
        let sent = match outcome.result {
            Ok(sent) => sent,
            Err(failure) => return Err(NotMade::Failed(Fault::new(failure.kind, failure.reason))),
        };
        let received = self.received(&outcome.token, &sent).await;
        for hash in sent.hashes() {
            // However it went, it is not needed there any more.
            let _ = self.0.results.delete(result_name(hash, &outcome.token)).await;
        }
        drop(under_way);
        if let Ok(_nothing) = self.0.under_way.try_write() {
            // Nobody waits for anything: what deleting leaves goes too.
            let _ = self.0.results_kept_in.purge().await;
        }
        match received {
            Ok(made) => Ok(FromHelper { made, helper: outcome.helper, seconds: outcome.seconds }),
            Err(why) => {
                self.distrust(&outcome.helper, &why.to_string());
                Err(NotMade::Nobody(format!("what {} gave cannot be used: {why}", outcome.helper)))
            }
        }
    }

    fn distrust(&self, helper: &str, why: &str) {
        tracing::warn!("{helper} gets nothing more to do: {why}");
        self.roll().distrusted.insert(helper.to_owned(), why.to_owned());
    }

    async fn send_home(&self, helper: &str) -> bool {
        self.sent_home(helper)
    }

    fn helpers(&self) -> Vec<Helper> {
        let kind = self.kind();
        let roll = self.roll();
        let mut all: Vec<Helper> = roll
            .known
            .values()
            .map(|known| {
                let minute = known.made.iter().filter(|t| t.elapsed() < Duration::from_secs(60)).count();
                let seen = known.seen.elapsed();
                let refused = if roll.sent_home.contains(&known.hello.name) {
                    Some("it was sent home".into())
                } else if known.hello.leaves {
                    Some("it ends what it has in work, and leaves".into())
                } else {
                    roll.refusal(&known.hello, &kind)
                };
                Helper {
                    name: known.hello.name.clone(),
                    machine: known.hello.machine.clone(),
                    cores: known.hello.cores,
                    at_work: if seen < GONE { known.hello.at_work.clone() } else { Vec::new() },
                    made: known.hello.made,
                    pace: minute as f64,
                    seen: seen.as_secs_f64(),
                    refused,
                }
            })
            .collect();
        all.sort_by(|a, b| (&a.machine, &a.name).cmp(&(&b.machine, &b.name)));
        all
    }
}

/// What the serving machine says of a fleet, as JSON; nothing where none serves.
///
/// # Errors
/// [`FleetError`].
pub async fn status(options: &BrokerOptions) -> Result<Option<serde_json::Value>, FleetError> {
    let broker = Broker::connect(options).await?;
    let Ok(answer) = broker.client.request(STATUS, "".into()).await else { return Ok(None) };
    serde_json::from_slice(&answer.payload).map(Some).map_err(refused("to say how it stands"))
}

/// Sends a machine home; whether it was there.
///
/// # Errors
/// [`FleetError`].
pub async fn send_home(options: &BrokerOptions, name: &str) -> Result<bool, FleetError> {
    let broker = Broker::connect(options).await?;
    let asked = written(&Home { name: name.to_owned() });
    let Ok(answer) = broker.client.request(HOME, asked.into()).await else { return Ok(false) };
    serde_json::from_slice(&answer.payload).map_err(refused("to send it home"))
}

impl Fleet {
    /// Its name, of which there is no second one.
    pub fn name(&self) -> &str {
        &self.0.name
    }
}
