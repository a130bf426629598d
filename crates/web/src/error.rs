//! What goes wrong in a handler, as a status and a sentence for people.

use axum::Json;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use rallo_recipe::Faults;
use rallo_runner::roots::Refused;
use serde_json::json;

/// A refusal, or a failure.
#[derive(Debug)]
pub struct Error(pub StatusCode, pub String);

impl Error {
    /// The request asks for something that is not right.
    pub fn bad(message: impl ToString) -> Self {
        Self(StatusCode::UNPROCESSABLE_ENTITY, message.to_string())
    }
}

/// A handler's result.
pub type Result<T> = std::result::Result<T, Error>;

impl IntoResponse for Error {
    fn into_response(self) -> Response {
        (self.0, Json(json!({"error": self.1}))).into_response()
    }
}

impl From<rallo_store::Error> for Error {
    fn from(e: rallo_store::Error) -> Self {
        if e.to_string().contains("no rows") {
            return Self(
                StatusCode::NOT_FOUND,
                "there is no such thing any more; go back and choose again".into(),
            );
        }
        tracing::error!("store: {e}");
        Self(StatusCode::INTERNAL_SERVER_ERROR, "the program's database did not answer; try again".into())
    }
}

impl From<Refused> for Error {
    fn from(e: Refused) -> Self {
        Self(StatusCode::FORBIDDEN, e.to_string())
    }
}

impl From<Faults> for Error {
    fn from(e: Faults) -> Self {
        Self::bad(e)
    }
}

impl From<rallo_media::MediaError> for Error {
    fn from(e: rallo_media::MediaError) -> Self {
        Self::bad(e)
    }
}

impl From<tokio::task::JoinError> for Error {
    fn from(e: tokio::task::JoinError) -> Self {
        tracing::error!("a task failed: {e}");
        Self(StatusCode::INTERNAL_SERVER_ERROR, "this picture could not be worked on".into())
    }
}
