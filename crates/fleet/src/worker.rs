//! A helping machine's side: it takes pictures, makes them, and gives back what it made.

use crate::broker::{
    BEAT, Broker, BrokerOptions, FleetError, HELLO, LEASE, ORIGINALS, RESULTS, WORK, consumer, consumer_name,
};
use crate::content::{TransferError, broker, fetched, put, result_name};
use crate::equipment;
use crate::message::{
    Assignment, Compared, Failure, Hello, Need, Outcome, Reply, Sent, SentFile, SentPiece, written,
};
use crate::server::machine;
use crate::share::{self, Share, SharePattern};
use async_nats::jetstream::consumer::PullConsumer;
use async_nats::jetstream::object_store::ObjectStore;
use async_nats::jetstream::{self, AckKind};
use futures_util::StreamExt;
use quick_cache::Weighter;
use quick_cache::sync::Cache;
use rallo_job::FailureKind;
use rallo_media::content_hash;
use rallo_runner::files::worker_name;
use rallo_runner::render::elsewhere::{MadeFile, MadePicture, MadePiece, Maker, Originals, PictureRequest};
use rallo_runner::render::fault::Fault;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};
use tokio::sync::{Semaphore, watch};

/// A picture that so many machines were given, and none gave back, is at fault itself.
const TRIES: i64 = 5;
/// How long it is tried to say what was made; after that it is somebody else's.
const SAYING: Duration = Duration::from_secs(60);
/// Largest recipe.
const LARGEST_RECIPE: u64 = 64_000_000;
/// Bytes of originals that are held for the pictures beside them.
const ORIGINALS_HELD: u64 = 1_000_000_000;
/// What holding an original costs beside its bytes.
const HOLDING: u64 = 256;

/// An original counts by its bytes.
#[derive(Clone)]
struct ByBytes;

impl Weighter<String, Arc<Vec<u8>>> for ByBytes {
    fn weight(&self, _: &String, bytes: &Arc<Vec<u8>>) -> u64 {
        bytes.len() as u64 + HOLDING
    }
}

/// What a helping machine is started with.
#[derive(Clone, Debug)]
pub struct WorkerOptions {
    /// The broker.
    pub broker: BrokerOptions,
    /// Pictures at a time.
    pub cores: usize,
    /// The program's own folder: profiles of lenses and cameras, and what is kept to save time.
    pub data: PathBuf,
    /// Folders that the server has too.
    pub shares: Vec<Share>,
}

struct Inner {
    broker: Broker,
    maker: Maker,
    data: PathBuf,
    name: String,
    cores: usize,
    permits: Semaphore,
    computing: AtomicUsize,
    at_work: Mutex<Vec<String>>,
    made: AtomicU64,
    leaves: AtomicBool,
    shares: Vec<Share>,
    /// What came of comparing them.
    compared: Mutex<BTreeMap<String, Compared>>,
    /// Originals of sequences, which several pictures need.
    originals: Cache<String, Arc<Vec<u8>>, ByBytes>,
    /// The last recipe, by its hash.
    recipe: Mutex<Option<(String, String)>>,
    /// What the server said last; nothing where none answers.
    said: watch::Sender<Option<Reply>>,
}

/// A machine that helps.
#[derive(Clone)]
pub struct Worker(Arc<Inner>);

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|p| p.into_inner())
}

impl Worker {
    /// Connects.
    ///
    /// # Errors
    /// [`FleetError`].
    pub async fn join(options: &WorkerOptions) -> Result<Self, FleetError> {
        let kept = options.data.join("kept");
        std::fs::create_dir_all(&kept).map_err(|e| FleetError::Folder(kept.clone(), e))?;
        let broker = Broker::connect(&options.broker).await?;
        let cores = options.cores.max(1);
        Ok(Self(Arc::new(Inner {
            broker,
            maker: Maker::new(&kept),
            data: options.data.clone(),
            name: worker_name().to_owned(),
            cores,
            permits: Semaphore::new(cores),
            computing: AtomicUsize::new(0),
            at_work: Mutex::default(),
            made: AtomicU64::new(0),
            leaves: AtomicBool::new(false),
            shares: options.shares.clone(),
            compared: Mutex::new(options.shares.iter().map(|s| (s.name.clone(), Compared::NotYet)).collect()),
            originals: Cache::with_weighter(100, ORIGINALS_HELD, ByBytes),
            recipe: Mutex::default(),
            said: watch::Sender::new(None),
        })))
    }

    /// Its name, of which there is no second one.
    pub fn name(&self) -> &str {
        &self.0.name
    }

    /// What the server says of this machine; nothing while none answers.
    pub fn said(&self) -> watch::Receiver<Option<Reply>> {
        self.0.said.subscribe()
    }

    /// Pictures in hand: while some are made, others are fetched.
    fn room(&self) -> usize {
        self.0.cores + self.0.cores.div_ceil(2)
    }

    /// Helps until `stop` ends or it is sent home; what it has in work is ended first.
    pub async fn run(&self, stop: impl Future<Output = ()>) {
        let beat = tokio::spawn({
            let worker = self.clone();
            async move { worker.beat().await }
        });
        // As many again take what is for this machine alone, so that neither keeps the other waiting.
        let takers: Vec<_> = (0..2 * self.room())
            .map(|n| {
                let worker = self.clone();
                tokio::spawn(async move { worker.take(n % 2 == 0).await })
            })
            .collect();
        let mut said = self.said();
        let sent_home = said.wait_for(|said| said.as_ref().is_some_and(|reply| reply.home));
        tokio::select! {
            () = stop => {}
            _ = sent_home => {}
        }
        self.0.leaves.store(true, Ordering::Relaxed);
        for taker in takers {
            let _ = taker.await;
        }
        beat.abort();
        self.greet().await;
    }

    /// Says how it stands, and hears what the server thinks of it.
    async fn greet(&self) {
        let inner = &*self.0;
        let hello = Hello {
            name: inner.name.clone(),
            machine: machine(),
            cores: inner.cores,
            room: self.room(),
            kind: equipment::kind(&inner.data),
            version: equipment::version(),
            at_work: lock(&inner.at_work).clone(),
            made: inner.made.load(Ordering::Relaxed),
            leaves: inner.leaves.load(Ordering::Relaxed),
            shares: lock(&inner.compared).clone(),
        };
        let answer = inner.broker.client.request(HELLO, written(&hello).into()).await;
        let reply: Option<Reply> =
            answer.ok().and_then(|answer| serde_json::from_slice(&answer.payload).ok());
        let compare = reply.as_ref().map(|reply| reply.compare.clone()).unwrap_or_default();
        if !compare.is_empty() {
            self.compare(compare).await;
        }
        inner.said.send_if_modified(|said| {
            let is_new = *said != reply;
            *said = reply;
            is_new
        });
    }

    /// Looks whether shared folders are the server's.
    async fn compare(&self, patterns: Vec<SharePattern>) {
        let shares = self.0.shares.clone();
        let look = move || {
            let of = |pattern: &SharePattern| {
                let share = shares.iter().find(|share| share.name == pattern.name)?;
                let compared = share.differs(pattern).map_or(Compared::Same, Compared::Differs);
                Some((pattern.name.clone(), compared))
            };
            patterns.iter().filter_map(of).collect::<Vec<_>>()
        };
        if let Ok(came) = tokio::task::spawn_blocking(look).await {
            lock(&self.0.compared).extend(came);
        }
    }

    async fn beat(&self) {
        loop {
            self.greet().await;
            tokio::time::sleep(BEAT).await;
        }
    }

    /// How pictures of a kind are taken, those for this machine alone or those for anybody.
    async fn consumer(&self, kind: &str, is_own: bool) -> Option<PullConsumer> {
        let context = &self.0.broker.context;
        if is_own {
            let stream = context.get_stream_no_info(WORK).await.ok()?;
            return stream.create_consumer(consumer(kind, Some(&self.0.name))).await.ok();
        }
        context.get_consumer_from_stream(consumer_name(kind, None), WORK).await.ok()
    }

    /// Takes one picture after the other.
    async fn take(&self, is_own: bool) {
        let inner = &*self.0;
        let mut taking: Option<(String, PullConsumer)> = None;
        while !inner.leaves.load(Ordering::Relaxed) {
            let is_welcome = inner.said.borrow().as_ref().is_some_and(|r| r.refused.is_none() && !r.home);
            if !is_welcome {
                taking = None;
                tokio::time::sleep(BEAT / 4).await;
                continue;
            }
            let kind = equipment::kind(&inner.data);
            let known = match taking.take() {
                Some((of, known)) if of == kind => Some(known),
                _ => self.consumer(&kind, is_own).await,
            };
            let Some(known) = known else {
                tokio::time::sleep(BEAT / 4).await;
                continue;
            };
            let came = known.fetch().max_messages(1).expires(BEAT).messages().await;
            let message = match came {
                Ok(mut messages) => messages.next().await,
                Err(_) => {
                    // The broker is away, or the server made its work anew.
                    tokio::time::sleep(BEAT / 4).await;
                    continue;
                }
            };
            match message {
                Some(Ok(message)) => self.work_on(message, is_own).await,
                Some(Err(_)) => continue,
                None => {}
            }
            taking = Some((kind, known));
        }
    }

    /// Makes one picture, from taking it to giving back what became of it.
    async fn work_on(&self, message: jetstream::Message, is_own: bool) {
        let given = message.info().map_or(1, |info| info.delivered);
        let (message, acker) = message.split();
        let acker = Arc::new(acker);
        let Ok(assignment) = serde_json::from_slice::<Assignment>(&message.payload) else {
            let _ = acker.ack_with(AckKind::Term).await;
            return;
        };
        let name = assignment.request.name.to_string_lossy().into_owned();
        lock(&self.0.at_work).push(name.clone());
        let goes_on = tokio::spawn({
            let acker = acker.clone();
            async move {
                loop {
                    tokio::time::sleep(LEASE / 3).await;
                    let _ = acker.ack_with(AckKind::Progress).await;
                }
            }
        });
        let start = Instant::now();
        let result = if given > TRIES {
            Ok(Err(Failure {
                kind: FailureKind::Inside,
                reason: format!("{TRIES} machines were given this picture, and none gave it back"),
                is_own: false,
            }))
        } else {
            self.made(&assignment).await
        };
        let result = match result {
            // What was for this machine alone is said to be somebody else's.
            Err(why) if is_own => {
                Ok(Err(Failure { kind: FailureKind::Inside, reason: why.to_string(), is_own: true }))
            }
            other => other,
        };
        let kind = match result {
            // Nothing of the picture: somebody else may have more luck.
            Err(why) => {
                tracing::warn!("{name}: {why}");
                AckKind::Nak(Some(BEAT))
            }
            Ok(result) => {
                let is_made = result.is_ok();
                let outcome = Outcome {
                    token: assignment.token.clone(),
                    helper: self.0.name.clone(),
                    seconds: start.elapsed().as_secs_f64(),
                    result,
                };
                match self.say(&assignment.answer, &outcome).await {
                    Some(is_wanted) => {
                        if is_made && is_wanted {
                            self.0.made.fetch_add(1, Ordering::Relaxed);
                        } else {
                            self.take_back(&outcome).await;
                        }
                        AckKind::Ack
                    }
                    None => {
                        self.take_back(&outcome).await;
                        AckKind::Nak(Some(BEAT))
                    }
                }
            }
        };
        goes_on.abort();
        let _ = acker.ack_with(kind).await;
        let mut at_work = lock(&self.0.at_work);
        if let Some(at) = at_work.iter().position(|own| *own == name) {
            at_work.remove(at);
        }
    }

    /// Says what became of a picture; whether somebody waited for it. Nothing where nobody could be told.
    async fn say(&self, answer: &str, outcome: &Outcome) -> Option<bool> {
        let until = Instant::now() + SAYING;
        while Instant::now() < until {
            let said = self.0.broker.client.request(answer.to_owned(), written(outcome).into()).await;
            match said {
                Ok(reply) => return serde_json::from_slice(&reply.payload).ok(),
                Err(e) => tracing::warn!("the server does not answer: {e}"),
            }
            tokio::time::sleep(BEAT).await;
        }
        None
    }

    /// Results that nobody wants are taken away again.
    async fn take_back(&self, outcome: &Outcome) {
        let Ok(results) = self.0.broker.bucket(RESULTS).await else { return };
        for hash in outcome.result.iter().flat_map(Sent::hashes) {
            let _ = results.delete(result_name(hash, &outcome.token)).await;
        }
    }

    /// An original, from where both sides have it, or from the broker.
    async fn original(
        &self,
        held: &ObjectStore,
        assignment: &Assignment,
        (hash, length): (&str, u64),
    ) -> Result<Arc<Vec<u8>>, TransferError> {
        let inner = &*self.0;
        if let Some(known) = inner.originals.get(hash) {
            return Ok(known);
        }
        if let Some(place) = assignment.shared.get(hash).cloned() {
            let (shares, wanted) = (inner.shares.clone(), hash.to_owned());
            let read = move || share::read(&shares, &place, &wanted);
            let found = tokio::task::spawn_blocking(read).await;
            if let Some(bytes) = found.map_err(|e| TransferError::Failed(e.to_string()))? {
                return Ok(Arc::new(bytes));
            }
            // Not there, or something else: the server hands it over.
            let need = Need { token: assignment.token.clone(), hash: hash.to_owned() };
            inner
                .broker
                .client
                .request(assignment.need.clone(), written(&need).into())
                .await
                .map_err(broker)?;
        }
        fetched(held, hash, hash, length).await.map(Arc::new)
    }

    /// All originals that a picture needs.
    async fn originals(
        &self,
        held: &ObjectStore,
        assignment: &Assignment,
        request: &PictureRequest,
    ) -> Result<Originals, TransferError> {
        let own = self.original(held, assignment, (&request.source, request.length)).await?;
        let mut all = Originals::from([(request.source.clone(), own)]);
        for one in &request.beside {
            if !all.contains_key(&one.source) {
                let bytes = self.original(held, assignment, (&one.source, one.length)).await?;
                all.insert(one.source.clone(), bytes);
            }
        }
        if !request.beside.is_empty() {
            // The next picture needs most of them.
            for (hash, bytes) in all.iter().filter(|(hash, _)| self.0.originals.peek(*hash).is_none()) {
                self.0.originals.insert(hash.clone(), bytes.clone());
            }
        }
        Ok(all)
    }

    /// What becomes of a picture; or why this machine cannot tell.
    async fn made(&self, assignment: &Assignment) -> Result<Result<Sent, Failure>, TransferError> {
        let inner = &*self.0;
        let mut request = assignment.request.clone();
        let held = inner.broker.bucket(ORIGINALS).await.map_err(broker)?;
        let originals = self.originals(&held, assignment, &request).await?;
        request.recipe = self.recipe(&held, &request.recipe).await?;
        let permit = inner.permits.acquire().await.map_err(|_| TransferError::Leaving)?;
        let busy = inner.computing.fetch_add(1, Ordering::Relaxed) + 1;
        // Fewer pictures than cores: each gets more of them.
        let threads = (inner.cores / busy.min(inner.cores)).max(1);
        let worker = self.clone();
        let work = move || worker.0.maker.make(&request, &originals, threads);
        let done = tokio::task::spawn_blocking(work).await;
        inner.computing.fetch_sub(1, Ordering::Relaxed);
        drop(permit);
        let made = match done {
            Ok(Ok(made)) => made,
            Ok(Err(Fault { kind, reason })) => return Ok(Err(Failure { kind, reason, is_own: false })),
            Err(e) => return Err(TransferError::Failed(e.to_string())),
        };
        self.handed_back(made, &assignment.token).await.map(Ok)
    }

    /// Puts what was made where the server finds it.
    async fn handed_back(&self, made: MadePicture, token: &str) -> Result<Sent, TransferError> {
        let inner = &*self.0;
        let results = inner.broker.bucket(RESULTS).await.map_err(broker)?;
        let kept = async |bytes: &[u8]| {
            let hash = content_hash(bytes);
            put(&results, &result_name(&hash, token), bytes).await?;
            Ok::<_, TransferError>((hash, bytes.len() as u64))
        };
        let mut sent = Sent { measured: made.measured, ..Sent::default() };
        for MadeFile { variant, bytes, width, height } in made.files {
            let (hash, length) = kept(&bytes).await?;
            sent.files.push(SentFile { variant, hash, length, width, height });
        }
        for MadePiece { task, sent: is, bytes } in made.pieces {
            let (hash, length) = kept(&bytes).await?;
            sent.pieces.push(SentPiece { task, sent: is, hash, length });
        }
        Ok(sent)
    }

    /// A recipe's document by its hash.
    async fn recipe(&self, held: &ObjectStore, hash: &str) -> Result<String, TransferError> {
        if let Some((known, text)) = &*lock(&self.0.recipe)
            && known == hash
        {
            return Ok(text.clone());
        }
        let text = String::from_utf8(fetched(held, hash, hash, LARGEST_RECIPE).await?)
            .map_err(|e| TransferError::Unreadable(e.to_string()))?;
        *lock(&self.0.recipe) = Some((hash.to_owned(), text.clone()));
        Ok(text)
    }
}
