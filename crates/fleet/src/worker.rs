//! A helping machine's side: it takes pictures, makes them, and gives back what it made.

use crate::broker::{
    BEAT, Broker, BrokerOptions, FleetError, HELLO, LEASE, ORIGINALS, RESULTS, WORK, consumer_name,
};
use crate::content::{TransferError, broker, fetched, put, result_name};
use crate::equipment;
use crate::message::{Assignment, Failure, Hello, Outcome, Reply, Sent, SentFile, SentPiece, written};
use crate::server::machine;
use async_nats::jetstream::consumer::PullConsumer;
use async_nats::jetstream::object_store::ObjectStore;
use async_nats::jetstream::{self, AckKind};
use futures_util::StreamExt;
use rallo_job::FailureKind;
use rallo_media::content_hash;
use rallo_runner::files::worker_name;
use rallo_runner::render::elsewhere::{MadeFile, MadePiece, Maker};
use rallo_runner::render::fault::Fault;
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

/// What a helping machine is started with.
#[derive(Clone, Debug)]
pub struct WorkerOptions {
    /// The broker.
    pub broker: BrokerOptions,
    /// Pictures at a time.
    pub cores: usize,
    /// The program's own folder: profiles of lenses and cameras, and what is kept to save time.
    pub data: PathBuf,
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
        let takers: Vec<_> = (0..self.room())
            .map(|_| {
                let worker = self.clone();
                tokio::spawn(async move { worker.take().await })
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
        };
        let answer = inner.broker.client.request(HELLO, written(&hello).into()).await;
        let reply = answer.ok().and_then(|answer| serde_json::from_slice(&answer.payload).ok());
        inner.said.send_if_modified(|said| {
            let is_new = *said != reply;
            *said = reply;
            is_new
        });
    }

    async fn beat(&self) {
        loop {
            self.greet().await;
            tokio::time::sleep(BEAT).await;
        }
    }

    /// Takes one picture after the other.
    async fn take(&self) {
        let inner = &*self.0;
        let mut consumer: Option<(String, PullConsumer)> = None;
        while !inner.leaves.load(Ordering::Relaxed) {
            let is_welcome = inner.said.borrow().as_ref().is_some_and(|r| r.refused.is_none() && !r.home);
            if !is_welcome {
                consumer = None;
                tokio::time::sleep(BEAT / 4).await;
                continue;
            }
            let kind = equipment::kind(&inner.data);
            let known = match consumer.take() {
                Some((of, known)) if of == kind => Some(known),
                _ => inner.broker.context.get_consumer_from_stream(consumer_name(&kind), WORK).await.ok(),
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
                Some(Ok(message)) => self.work_on(message).await,
                Some(Err(_)) => continue,
                None => {}
            }
            consumer = Some((kind, known));
        }
    }

    /// Makes one picture, from taking it to giving back what became of it.
    async fn work_on(&self, message: jetstream::Message) {
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
            }))
        } else {
            self.made(&assignment).await
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

    /// What becomes of a picture; or why this machine cannot tell.
    async fn made(&self, assignment: &Assignment) -> Result<Result<Sent, Failure>, TransferError> {
        let inner = &*self.0;
        let mut request = assignment.request.clone();
        let originals = inner.broker.bucket(ORIGINALS).await.map_err(broker)?;
        let original = fetched(&originals, &request.source, &request.source, request.length).await?;
        request.recipe = self.recipe(&originals, &request.recipe).await?;
        let permit = inner.permits.acquire().await.map_err(|_| TransferError::Leaving)?;
        let busy = inner.computing.fetch_add(1, Ordering::Relaxed) + 1;
        // Fewer pictures than cores: each gets more of them.
        let threads = (inner.cores / busy.min(inner.cores)).max(1);
        let worker = self.clone();
        let work = move || worker.0.maker.make(&request, original, threads);
        let done = tokio::task::spawn_blocking(work).await;
        inner.computing.fetch_sub(1, Ordering::Relaxed);
        drop(permit);
        let made = match done {
            Ok(Ok(made)) => made,
            Ok(Err(Fault { kind, reason })) => return Ok(Err(Failure { kind, reason })),
            Err(e) => return Err(TransferError::Failed(e.to_string())),
        };
        let results = inner.broker.bucket(RESULTS).await.map_err(broker)?;
        let kept = async |bytes: &[u8]| {
            let hash = content_hash(bytes);
            put(&results, &result_name(&hash, &assignment.token), bytes).await?;
            Ok::<_, TransferError>((hash, bytes.len() as u64))
        };
        let mut sent = Sent::default();
        for MadeFile { variant, bytes, width, height } in made.files {
            let (hash, length) = kept(&bytes).await?;
            sent.files.push(SentFile { variant, hash, length, width, height });
        }
        for MadePiece { task, sent: is, bytes } in made.pieces {
            let (hash, length) = kept(&bytes).await?;
            sent.pieces.push(SentPiece { task, sent: is, hash, length });
        }
        Ok(Ok(sent))
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
