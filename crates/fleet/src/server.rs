//! The serving machine's side: pictures are handed out, what comes back is looked at and given to the queue.
//!
//! Records and files stay with the queue; here is only what is under way. So a server that was killed begins by taking away what an
//! earlier one left with the broker, and the queue hands its items out anew.

use crate::broker::{
    ALL_WORK, BEAT, Broker, BrokerOptions, FleetError, HELLO, HOME, ORIGINALS, RESULTS, STATUS, WORK,
    consumer, refused, work_subject,
};
use crate::content::{Contents, Needed, TransferError, broker, fetched, result_name};
use crate::equipment;
use crate::message::{Assignment, Compared, Hello, Home, Need, Outcome, Reply, Sent, Status, written};
use crate::share::{self, Share, SharePattern};
use async_nats::Message;
use async_nats::jetstream::object_store::ObjectStore;
use async_nats::jetstream::stream::{self, RetentionPolicy};
use async_trait::async_trait;
use futures_util::StreamExt;
use quick_cache::sync::Cache;
use rallo_media::content_hash;
use rallo_runner::queue::{FromHelper, Helper, Helpers, NotMade};
use rallo_runner::render::elsewhere::{
    MadeFile, MadePicture, MadePiece, Original, PictureRequest, most_bytes,
};
use rallo_runner::render::fault::Fault;
use std::collections::{HashMap, HashSet, VecDeque};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};
use tokio::sync::{RwLock, mpsc};

/// A machine that was not heard of for so long is gone.
const GONE: Duration = Duration::from_secs(10);
/// It is shown for so much longer.
const REMEMBERED: Duration = Duration::from_secs(600);
/// Work that nobody is there for comes back after this.
const NOBODY: Duration = Duration::from_secs(30);
/// What a kind of work is told by is looked at anew after this.
const KIND_HOLDS: Duration = Duration::from_secs(2);

/// What shared folders are known by is looked at anew after this.
const PATTERN_HOLDS: Duration = Duration::from_secs(60);
/// A picture that took so many seconds is rather given to the machine that made it, which has kept what took them.
const KEPT_FROM: f64 = 2.0;
/// Of so many pictures it is remembered who made them.
const MADE_BY: usize = 100_000;

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
    pending: Mutex<HashMap<String, Waiting>>,
    /// Folders that others may have too.
    shares: Vec<Share>,
    /// Some files of each.
    patterns: RwLock<Vec<SharePattern>>,
    /// Who made a picture that took long, by its original.
    made_by: Cache<String, String>,
}

/// Somebody who waits for a picture.
struct Waiting {
    tell: mpsc::UnboundedSender<Outcome>,
    originals: Arc<Vec<Original>>,
    /// Originals that were put with the broker for it because they were not found in a shared folder.
    held: Vec<Needed>,
}

/// What a serving machine is started with.
#[derive(Clone, Debug, Default)]
pub struct FleetOptions {
    /// The broker.
    pub broker: BrokerOptions,
    /// The program's own folder.
    pub data: PathBuf,
    /// The most bytes of originals, and of results, that the broker may hold.
    pub most: Option<i64>,
    /// Folders that other machines have too.
    pub shares: Vec<Share>,
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
    /// Connects as the one who hands out work.
    ///
    /// # Errors
    /// [`FleetError`].
    pub async fn serve(options: &FleetOptions) -> Result<Self, FleetError> {
        let FleetOptions { broker: options, data, most, shares } = options;
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
                subjects: vec![ALL_WORK.into()],
                retention: RetentionPolicy::WorkQueue,
                ..stream::Config::default()
            })
            .await
            .map_err(refused("to keep work"))?;
        let (originals, kept_in) = broker.made_bucket(ORIGINALS, *most).await?;
        let (results, results_kept_in) = broker.made_bucket(RESULTS, *most).await?;
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
            shares: shares.clone(),
            patterns: RwLock::default(),
            made_by: Cache::new(MADE_BY),
        }));
        fleet.know_shares().await;
        let kind = fleet.kind();
        fleet.consumer(&kind).await.map_err(refused("to hand out work"))?;
        fleet.hear_needs().await?;
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

    fn pending(&self) -> MutexGuard<'_, HashMap<String, Waiting>> {
        self.0.pending.lock().unwrap_or_else(|p| p.into_inner())
    }

    /// Looks what shared folders are known by, now and from time to time.
    async fn know_shares(&self) {
        if self.0.shares.is_empty() {
            return;
        }
        let look = |shares: Vec<Share>| shares.iter().map(Share::pattern).collect::<Vec<_>>();
        let fleet = self.clone();
        let looked = async move || {
            let shares = fleet.0.shares.clone();
            if let Ok(patterns) = tokio::task::spawn_blocking(move || look(shares)).await {
                *fleet.0.patterns.write().await = patterns;
            }
        };
        looked().await;
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(PATTERN_HOLDS).await;
                looked().await;
            }
        });
    }

    /// The subject on which originals are asked for.
    fn need_subject(&self) -> String {
        format!("rallo.need.{}", self.0.name)
    }

    /// Hands over originals that other machines do not find in their shared folders.
    async fn hear_needs(&self) -> Result<(), FleetError> {
        let asked = self.0.broker.client.subscribe(self.need_subject()).await;
        let mut asked = asked.map_err(refused("to listen"))?;
        let fleet = self.clone();
        tokio::spawn(async move {
            while let Some(message) = asked.next().await {
                let fleet = fleet.clone();
                tokio::spawn(async move {
                    let need: Option<Need> = serde_json::from_slice(&message.payload).ok();
                    let is_there = match need {
                        Some(need) => fleet.put_for(&need).await.is_some(),
                        None => false,
                    };
                    if let Some(reply) = message.reply {
                        let _ = fleet.0.broker.client.publish(reply, written(&is_there).into()).await;
                    }
                });
            }
        });
        Ok(())
    }

    /// Puts an original of a picture that is waited for with the broker.
    async fn put_for(&self, need: &Need) -> Option<()> {
        let originals = self.pending().get(&need.token)?.originals.clone();
        let original = originals.iter().find(|original| original.hash == need.hash)?;
        let held = self.held(original).await.ok()?;
        self.pending().get_mut(&need.token)?.held.push(held);
        Some(())
    }

    /// An original that is with the broker for as long as the answer lives.
    async fn held(&self, original: &Original) -> Result<Needed, TransferError> {
        let bytes = async || {
            if let Some(bytes) = &original.bytes {
                return Ok(bytes.clone());
            }
            let read = tokio::fs::read(&original.path).await;
            let bytes = read.map_err(|e| TransferError::Unreadable(e.to_string()))?;
            if content_hash(&bytes) == original.hash {
                Ok(Arc::new(bytes))
            } else {
                Err(TransferError::OtherBytes)
            }
        };
        self.0.contents.hold(&original.hash, bytes).await
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
        self.0.stream.create_consumer(consumer(kind, None)).await.map_err(broker)?;
        made.insert(kind.to_owned());
        Ok(())
    }

    /// A machine says how it stands.
    fn greeted(&self, message: Message) -> Vec<u8> {
        let Ok(hello) = serde_json::from_slice::<Hello>(&message.payload) else {
            return written(&Reply { refused: Some("it cannot be understood".into()), ..Reply::default() });
        };
        let waits = |p: &&SharePattern| hello.shares.get(&p.name) == Some(&Compared::NotYet);
        // While they are looked at anew, the next hello is answered with them.
        let patterns = self.0.patterns.try_read();
        let compare = patterns.iter().flat_map(|all| all.iter().filter(waits).cloned()).collect();
        let kind = self.kind();
        let mut roll = self.roll();
        let home = roll.sent_home.contains(&hello.name);
        let refused = roll.refusal(&hello, &kind, &self.0.shares);
        let now = Instant::now();
        let known = roll.known.entry(hello.name.clone()).or_insert_with(|| Known {
            hello: hello.clone(),
            seen: now,
            made: VecDeque::new(),
        });
        (known.hello, known.seen) = (hello, now);
        roll.known.retain(|_, known| known.seen.elapsed() < REMEMBERED);
        written(&Reply { refused, home, compare })
    }

    /// A picture came back; whether somebody waits for it.
    fn answered(&self, message: Message) -> Vec<u8> {
        let Ok(outcome) = serde_json::from_slice::<Outcome>(&message.payload) else {
            return written(&false);
        };
        let is_own = matches!(&outcome.result, Err(failure) if failure.is_own);
        let tell = {
            let mut pending = self.pending();
            let waits = pending.get(&outcome.token).map(|waits| waits.tell.clone());
            // Somebody else makes it then, and says so.
            if !is_own {
                pending.remove(&outcome.token);
            }
            waits
        };
        let Some(tell) = tell else { return written(&false) };
        let now = Instant::now();
        if let Some(known) = self.roll().known.get_mut(&outcome.helper) {
            known.made.push_back(now);
            while known.made.front().is_some_and(|t| t.elapsed() > Duration::from_secs(60)) {
                known.made.pop_front();
            }
        }
        written(&tell.send(outcome).is_ok())
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
        !roll.known.values().any(|known| roll.is_here(known, &kind, &self.0.shares))
    }

    /// Whether a machine is there and has hands free.
    fn is_free(&self, name: &str) -> bool {
        let kind = self.kind();
        let roll = self.roll();
        let takes = |known: &Known| roll.takes(known, &kind, &self.0.shares);
        roll.known.get(name).is_some_and(|k| takes(k) && k.hello.at_work.len() < k.hello.room)
    }

    /// Publishes a picture for one machine, or for whoever can first; its number with the broker.
    async fn publish(&self, kind: &str, to: Option<&str>, work: &Assignment) -> Result<u64, TransferError> {
        let published = self.0.broker.context.publish(work_subject(kind, to), written(work).into()).await;
        Ok(published.map_err(broker)?.await.map_err(broker)?.sequence)
    }

    /// Hands a picture out, to one machine if that can, and waits until somebody made it, or nobody is there.
    async fn handed_out(
        &self,
        mut request: PictureRequest,
        originals: Vec<Original>,
        rather: Option<&str>,
    ) -> Result<Outcome, TransferError> {
        let inner = &*self.0;
        let kind = self.kind();
        self.consumer(&kind).await?;
        let (mut held, mut shared) = (Vec::new(), HashMap::new());
        for original in &originals {
            match share::place_of(&inner.shares, &original.path) {
                Some(place) => {
                    shared.insert(original.hash.clone(), place);
                }
                None => held.push(self.held(original).await?),
            }
        }
        let recipe = content_hash(request.recipe.as_bytes());
        let document = std::mem::replace(&mut request.recipe, recipe.clone());
        held.push(inner.contents.hold(&recipe, async || Ok(Arc::new(document.into_bytes()))).await?);
        // What was put is there; the bytes need not stand here too.
        let without = |original: Original| Original { bytes: None, ..original };
        let originals = Arc::new(originals.into_iter().map(without).collect());
        let source = request.source.clone();
        let known = inner.made_by.get(&source);
        let mut to = rather.map(str::to_owned).or(known.filter(|name| self.is_free(name)));
        let token = token();
        let (tell, mut told) = mpsc::unbounded_channel();
        self.pending().insert(token.clone(), Waiting { tell, originals, held });
        // Whoever no longer waits is forgotten.
        let _pending = Pending(self.clone(), token.clone());
        let (answer, need) = (inner.answer.clone(), self.need_subject());
        let assignment = Assignment { token, answer, request, shared, need };
        let mut sequence = self.publish(&kind, to.as_deref(), &assignment).await?;
        let mut last_seen = Instant::now();
        loop {
            tokio::select! {
                outcome = told.recv() => {
                    let outcome = outcome.ok_or(TransferError::Leaving)?;
                    if !matches!(&outcome.result, Err(failure) if failure.is_own) {
                        if outcome.seconds >= KEPT_FROM {
                            inner.made_by.insert(source, outcome.helper.clone());
                        }
                        return Ok(outcome);
                    }
                    to = None;
                    sequence = self.publish(&kind, None, &assignment).await?;
                }
                () = tokio::time::sleep(BEAT) => {}
            }
            if let Some(name) = &to
                && !self.is_known(name)
            {
                // It is gone: whoever can first makes it.
                let _ = tokio::time::timeout(BEAT, inner.stream.delete_message(sequence)).await;
                to = None;
                sequence = self.publish(&kind, None, &assignment).await?;
            }
            if !self.is_alone() {
                last_seen = Instant::now();
            } else if last_seen.elapsed() > NOBODY {
                // Where the broker is gone too, there is nothing to take back.
                let _ = tokio::time::timeout(BEAT, inner.stream.delete_message(sequence)).await;
                return Err(TransferError::NobodyThere);
            }
        }
    }

    /// Whether a machine was heard of lately.
    fn is_known(&self, name: &str) -> bool {
        self.roll().known.get(name).is_some_and(|known| known.seen.elapsed() < GONE)
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
        made.measured = sent.measured.clone();
        Ok(made)
    }
}

/// A picture that is waited for.
struct Pending(Fleet, String);

impl Drop for Pending {
    fn drop(&mut self) {
        self.0.pending().remove(&self.1);
    }
}

impl Roll {
    /// Whether a machine was heard of, and can do this kind of work.
    fn is_here(&self, known: &Known, kind: &str, shares: &[Share]) -> bool {
        known.seen.elapsed() < GONE && self.refusal(&known.hello, kind, shares).is_none()
    }

    /// Whether it takes more.
    fn takes(&self, known: &Known, kind: &str, shares: &[Share]) -> bool {
        self.is_here(known, kind, shares)
            && !known.hello.leaves
            && !self.sent_home.contains(&known.hello.name)
    }

    /// Why a machine gets nothing to do, if so.
    fn refusal(&self, hello: &Hello, kind: &str, shares: &[Share]) -> Option<String> {
        if let Some(why) = self.distrusted.get(&hello.name) {
            return Some(format!("what it gave was not believed: {why}"));
        }
        if hello.kind == kind {
            return hello.shares.iter().find_map(|(name, compared)| share_refusal(name, compared, shares));
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

/// Why a machine with a shared folder gets nothing to do, if so.
fn share_refusal(name: &str, compared: &Compared, shares: &[Share]) -> Option<String> {
    if !shares.iter().any(|share| share.name == name) {
        return Some(format!(
            "it shares {name}, and the server does not: start the server with --share {name}=FOLDER, or this machine without it"
        ));
    }
    match compared {
        Compared::Same => None,
        Compared::NotYet => Some(format!("its folder {name} is being compared with the server's")),
        Compared::Differs(what) => {
            Some(format!("its folder {name} is another one than the server's: {what}; share the same folder"))
        }
    }
}

#[async_trait]
impl Helpers for Fleet {
    fn address(&self) -> Option<String> {
        Some(self.0.address.clone())
    }

    fn places(&self) -> Vec<(String, usize)> {
        let kind = self.kind();
        let roll = self.roll();
        let takes = |known: &&Known| roll.takes(known, &kind, &self.0.shares);
        let place = |known: &Known| (known.hello.name.clone(), known.hello.room.min(4096));
        roll.known.values().filter(takes).map(place).collect()
    }

    async fn make(
        &self,
        request: PictureRequest,
        originals: Vec<Original>,
        rather: Option<&str>,
    ) -> Result<FromHelper, NotMade> {
        let under_way = self.0.under_way.read().await;
        let outcome = self.handed_out(request, originals, rather).await;
        let outcome = outcome.map_err(|e| NotMade::Nobody(e.to_string()))?;
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
                    roll.refusal(&known.hello, &kind, &self.0.shares)
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

/// What the serving machine says of a fleet; nothing where none serves.
///
/// # Errors
/// [`FleetError`].
pub async fn status(options: &BrokerOptions) -> Result<Option<Status>, FleetError> {
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
