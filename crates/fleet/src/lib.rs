//! Several machines: pictures of runs are handed to others, and what they made is taken back.
//!
//! Between them stands a broker (NATS with JetStream), which keeps what is to do until somebody did it, gives it to somebody
//! else when a machine is gone, and holds originals and results by the hash of their bytes. Nothing else is shared: no file
//! system, no database. The serving machine alone keeps records and writes files ([`server`]); the others make pictures
//! ([`worker`]) and see nothing but those.
//!
//! `broker` is how both reach it and what things are called there, `message` what they say to each other, `equipment` what a machine
//! must have so that its results are the same bytes, `content` what is held by its hash, `share` folders that both sides have.

mod broker;
mod content;
mod equipment;
mod message;
pub mod server;
mod share;
pub mod worker;

pub use broker::{BrokerOptions, FleetError};
pub use message::{Reply, Status};
pub use share::{Share, ShareError, SharePattern};
