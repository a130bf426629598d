//! How a machine reaches the broker, and what things are called there.

use async_nats::jetstream::consumer::{AckPolicy, pull};
use async_nats::jetstream::object_store::{self, ObjectStore};
use async_nats::jetstream::stream::Stream;
use async_nats::jetstream::{self, Context};
use async_nats::{Client, ConnectOptions};
use std::path::PathBuf;
use std::time::Duration;

/// Where pictures wait for somebody; each kind of work has its own subject below.
pub(crate) const WORK: &str = "rallo-work";
/// What a machine says of itself, and hears.
pub(crate) const HELLO: &str = "rallo.hello";
/// What the serving machine answers about the fleet.
pub(crate) const STATUS: &str = "rallo.status";
/// Asks the serving machine to send another one home.
pub(crate) const HOME: &str = "rallo.home";
/// Originals and recipes, by hash.
pub(crate) const ORIGINALS: &str = "rallo-originals";
/// Results, by hash.
pub(crate) const RESULTS: &str = "rallo-results";

/// How long work is with a machine that says nothing of it before another one gets it.
pub(crate) const LEASE: Duration = Duration::from_secs(15);
/// How often a machine says that it goes on.
pub(crate) const BEAT: Duration = Duration::from_secs(2);

/// The subject of all work.
pub(crate) const ALL_WORK: &str = "rallo.work.>";

/// A name as a part of a subject.
fn part(name: &str) -> String {
    name.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '_' }).collect()
}

/// The subject of work of a kind: for whoever can first, or for one machine that has its neighbours or what was kept of it.
pub(crate) fn work_subject(kind: &str, to: Option<&str>) -> String {
    match to {
        Some(name) => format!("rallo.work.{kind}.to.{}", part(name)),
        None => format!("rallo.work.{kind}"),
    }
}

/// The name under which machines, or one machine, take work of a kind.
pub(crate) fn consumer_name(kind: &str, to: Option<&str>) -> String {
    match to {
        Some(name) => format!("takes-{kind}-{}", part(name)),
        None => format!("takes-{kind}"),
    }
}

/// How work of a kind is taken.
pub(crate) fn consumer(kind: &str, to: Option<&str>) -> pull::Config {
    pull::Config {
        durable_name: Some(consumer_name(kind, to)),
        filter_subject: work_subject(kind, to),
        ack_policy: AckPolicy::Explicit,
        ack_wait: LEASE,
        max_ack_pending: 100_000,
        // A machine that is gone leaves nothing there.
        inactive_threshold: if to.is_some() { Duration::from_secs(120) } else { Duration::ZERO },
        ..pull::Config::default()
    }
}

/// Where the broker is, and who asks.
#[derive(Clone, Debug, Default)]
pub struct BrokerOptions {
    /// Its address, such as `nats://studio:4222`; `tls://` where it speaks TLS only.
    pub address: String,
    /// A file with a token, or with `user:password`.
    pub login: Option<PathBuf>,
    /// A file with certificates (PEM) that the broker's own is signed by.
    pub authority: Option<PathBuf>,
}

/// What goes wrong with a fleet.
#[derive(Debug, thiserror::Error)]
pub enum FleetError {
    /// The broker does not answer, or does not let anybody in.
    #[error("the broker at {0} cannot be used: {1}")]
    Connect(String, String),
    /// The file with the login.
    #[error("the login in {0} cannot be read: {1}")]
    Login(PathBuf, std::io::Error),
    /// The broker refused something.
    #[error("the broker refuses {0}: {1}")]
    Refused(&'static str, String),
    /// There is a second server.
    #[error("another server hands out work by this broker already; stop it first, or use another broker")]
    SecondServer,
    /// The folder for what is kept.
    #[error("cannot use the folder {0}: {1}")]
    Folder(PathBuf, std::io::Error),
}

pub(crate) fn refused<E: std::fmt::Display>(what: &'static str) -> impl FnOnce(E) -> FleetError {
    move |e| FleetError::Refused(what, e.to_string())
}

impl BrokerOptions {
    /// Connects; a connection that is lost is made again for as long as the program runs.
    ///
    /// # Errors
    /// [`FleetError`].
    pub(crate) async fn connect(&self) -> Result<Client, FleetError> {
        let mut options = ConnectOptions::new()
            .connection_timeout(Duration::from_secs(5))
            .request_timeout(Some(Duration::from_secs(10)))
            .ping_interval(Duration::from_secs(5))
            .reconnect_delay_callback(|tries| Duration::from_millis((tries as u64 * 100).min(2000)));
        if let Some(file) = &self.login {
            let text = std::fs::read_to_string(file).map_err(|e| FleetError::Login(file.clone(), e))?;
            options = match text.trim().split_once(':') {
                Some((user, password)) => options.user_and_password(user.to_owned(), password.to_owned()),
                None => options.token(text.trim().to_owned()),
            };
        }
        if let Some(file) = &self.authority {
            options = options.add_root_certificates(file.clone()).require_tls(true);
        }
        options
            .connect(&self.address)
            .await
            .map_err(|e| FleetError::Connect(self.address.clone(), e.to_string()))
    }
}

/// A connection with what both sides use of it.
#[derive(Clone)]
pub(crate) struct Broker {
    pub client: Client,
    pub context: Context,
}

impl Broker {
    pub async fn connect(options: &BrokerOptions) -> Result<Self, FleetError> {
        let client = options.connect().await?;
        let context = jetstream::new(client.clone());
        Ok(Self { client, context })
    }

    /// What is held by its hash, and what that is kept in; made where it is not there.
    pub async fn made_bucket(
        &self,
        name: &str,
        most: Option<i64>,
    ) -> Result<(ObjectStore, Stream), FleetError> {
        let config = object_store::Config {
            bucket: name.to_owned(),
            max_bytes: most.unwrap_or(-1),
            ..object_store::Config::default()
        };
        let store = self.context.create_object_store(config).await.map_err(refused("to hold pictures"))?;
        let stream = self.context.get_stream(format!("OBJ_{name}")).await;
        Ok((store, stream.map_err(refused("to hold pictures"))?))
    }

    /// What is held by its hash, which the server made.
    pub async fn bucket(&self, name: &str) -> Result<ObjectStore, FleetError> {
        self.context.get_object_store(name).await.map_err(refused("to hand out pictures"))
    }
}
