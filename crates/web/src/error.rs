//! What goes wrong in a handler, as a status and a sentence for people; and requests' JSON, read so that what does not
//! fit is told with its place.
//!
//! Every refusal has one shape, the problem details of RFC 9457: `{"title": …, "status": …, "detail": …}` as
//! `application/problem+json`, where `detail` is the sentence.

use axum::Json;
use axum::body::Bytes;
use axum::extract::{FromRequest, Request};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use rallo_recipe::Faults;
use rallo_runner::files::allowed_folders::Refused;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::error::Category;

/// A refusal, or a failure.
#[derive(Debug)]
pub struct Error(pub StatusCode, pub String);

impl Error {
    /// The request asks for something that is not right.
    pub fn bad(message: impl ToString) -> Self {
        Self(StatusCode::UNPROCESSABLE_ENTITY, message.to_string())
    }
}

/// Problem details (RFC 9457): why a request was refused, or failed.
#[derive(Debug, Serialize)]
pub struct Problem {
    /// What the status means.
    title: &'static str,
    /// The status of the answer.
    status: u16,
    /// What is wrong, where, and what to do, in a sentence for people.
    detail: String,
}

impl Problem {
    /// As an answer of that status.
    pub fn answer(status: StatusCode, detail: impl Into<String>) -> Response {
        let problem = Self {
            title: status.canonical_reason().unwrap_or("Refused"),
            status: status.as_u16(),
            detail: detail.into(),
        };
        let mut answer = (status, Json(problem)).into_response();
        answer
            .headers_mut()
            .insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        answer
    }
}

impl IntoResponse for Error {
    fn into_response(self) -> Response {
        Problem::answer(self.0, self.1)
    }
}

/// The JSON a request carries; what does not fit is told as every other fault is, with its place.
pub struct Sent<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Sent<T> {
    type Rejection = Error;

    async fn from_request(request: Request, state: &S) -> Result<Self> {
        let kind =
            request.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
        let kind = kind.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        if kind != "application/json" && !(kind.starts_with("application/") && kind.ends_with("+json")) {
            return Err(Error(
                StatusCode::UNSUPPORTED_MEDIA_TYPE,
                "the request is to be JSON, and to say so: Content-Type: application/json".into(),
            ));
        }
        let bytes =
            Bytes::from_request(request, state).await.map_err(|e| Error(e.status(), e.body_text()))?;
        read(&bytes).map(Self)
    }
}

/// Reads a request's JSON.
fn read<T: DeserializeOwned>(bytes: &[u8]) -> Result<T> {
    let mut reader = serde_json::Deserializer::from_slice(bytes);
    let read = serde_path_to_error::deserialize(&mut reader);
    let fault = match read {
        Ok(value) => match reader.end() {
            Ok(()) => return Ok(value),
            Err(e) => {
                return Err(Error(StatusCode::BAD_REQUEST, format!("the request is not valid JSON: {e}")));
            }
        },
        Err(fault) => fault,
    };
    let (place, reason) = (fault.path().to_string(), fault.inner());
    let told = reason.to_string();
    if reason.classify() != Category::Data {
        return Err(Error(StatusCode::BAD_REQUEST, format!("the request is not valid JSON: {told}")));
    }
    let what = told.split(" at line ").next().unwrap_or(&told);
    let place = if place == "." { String::new() } else { format!("{place}: ") };
    Err(Error::bad(match what.strip_prefix("missing field `") {
        Some(name) => format!("{place}{} is missing in the request", name.trim_end_matches('`')),
        None => format!("the request does not fit: {place}{what}"),
    }))
}

/// A handler's result.
pub type Result<T> = std::result::Result<T, Error>;

impl From<rallo_job::Error> for Error {
    fn from(e: rallo_job::Error) -> Self {
        match e {
            rallo_job::Error::NotFound { .. } => {
                Self(StatusCode::NOT_FOUND, format!("{e} any more; go back and choose again"))
            }
            rallo_job::Error::Stored { .. } => {
                tracing::error!("records: {e}");
                Self(StatusCode::INTERNAL_SERVER_ERROR, e.to_string())
            }
            e => {
                tracing::error!("records: {e}");
                Self(
                    StatusCode::INTERNAL_SERVER_ERROR,
                    "the program's database did not answer; try again".into(),
                )
            }
        }
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

impl From<rallo_runner::render::fault::Fault> for Error {
    fn from(e: rallo_runner::render::fault::Fault) -> Self {
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
    use serde::Deserialize;

    #[derive(Debug, Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Asked {
        #[serde(rename = "target")]
        _target: String,
        #[serde(default, rename = "places")]
        _places: Vec<Place>,
        #[serde(default, rename = "cores")]
        _cores: usize,
    }

    #[derive(Debug, Deserialize)]
    struct Place {
        #[serde(rename = "path")]
        _path: String,
    }

    #[test]
    fn what_does_not_fit_is_told_with_its_place() {
        for (sent, status, told) in [
            ("{}", 422, "target is missing in the request"),
            (r#"{"target": "x", "places": [{"at": 1}]}"#, 422, "places[0]: path is missing in the request"),
            (
                r#"{"target": "x", "cores": -1}"#,
                422,
                "the request does not fit: cores: invalid value: integer `-1`, expected usize",
            ),
            ("[", 400, "the request is not valid JSON: EOF while parsing a list at line 1 column 1"),
            (
                r#"{"target": "x"} more"#,
                400,
                "the request is not valid JSON: trailing characters at line 1 column 17",
            ),
        ] {
            let Error(code, detail) = read::<Asked>(sent.as_bytes()).unwrap_err();
            assert_eq!((code.as_u16(), detail.as_str()), (status, told), "{sent}");
        }
        assert!(read::<Asked>(br#"{"target": "x", "cores": 2}"#).is_ok());
    }
}
