//! What goes wrong in a handler, as a status and a sentence for people.

use axum::Json;
use axum::extract::{FromRequest, Request};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use rallo_recipe::Faults;
use rallo_runner::files::allowed_folders::Refused;
use serde::de::DeserializeOwned;
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

/// The JSON a request carries; what does not fit is told as every other fault is, with its place.
pub struct Sent<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Sent<T> {
    type Rejection = Error;

    async fn from_request(request: Request, state: &S) -> Result<Self> {
        let read = Json::<T>::from_request(request, state).await;
        read.map(|Json(asked)| Self(asked)).map_err(|e| Error(e.status(), in_plain_words(&e.body_text())))
    }
}

/// What the library says of a request's JSON, as people say it.
fn in_plain_words(said: &str) -> String {
    let of =
        |start: &str| said.strip_prefix(start).map(|rest| rest.split(" at line ").next().unwrap_or(rest));
    if let Some(what) = of("Failed to deserialize the JSON body into the target type: ") {
        return match what.rsplit_once("missing field `") {
            Some((place, name)) => format!("{place}{} is missing in the request", name.trim_end_matches('`')),
            None => format!("the request does not fit: {what}"),
        };
    }
    match said.strip_prefix("Failed to parse the request body as JSON: ") {
        Some(what) => format!("the request is not valid JSON: {what}"),
        None if said.starts_with("Expected request with") => {
            "the request is to be JSON, and to say so: Content-Type: application/json".into()
        }
        None => said.to_owned(),
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_fit_is_told_with_its_place() {
        for (said, told) in [
            (
                "Failed to deserialize the JSON body into the target type: missing field `target` at line 1 column 2",
                "target is missing in the request",
            ),
            (
                "Failed to deserialize the JSON body into the target type: places[0]: missing field `path` at line 1 column 14",
                "places[0]: path is missing in the request",
            ),
            (
                "Failed to deserialize the JSON body into the target type: cores: invalid value: integer `-1`, expected usize at line 1 column 11",
                "the request does not fit: cores: invalid value: integer `-1`, expected usize",
            ),
            (
                "Failed to parse the request body as JSON: EOF while parsing a list at line 1 column 2",
                "the request is not valid JSON: EOF while parsing a list at line 1 column 2",
            ),
            (
                "Expected request with `Content-Type: application/json`",
                "the request is to be JSON, and to say so: Content-Type: application/json",
            ),
            ("length limit exceeded", "length limit exceeded"),
        ] {
            assert_eq!(in_plain_words(said), told);
        }
    }
}
