//! What a request brings: JSON, numbers in its path, and its query, each read so that what does not fit is refused with
//! its place, in the one shape of all refusals; and each described for the interface's document.

use crate::error::{Error, Result};
use aide::OperationInput;
use aide::generate::GenContext;
use aide::openapi::{Operation, ReferenceOr};
use axum::body::Bytes;
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::request::Parts;
use axum::http::{StatusCode, header};
use schemars::JsonSchema;
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::error::Category;

/// Numbers and names in a request's path.
pub struct Path<T>(pub T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for Path<T> {
    type Rejection = Error;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self> {
        let read = axum::extract::Path::from_request_parts(parts, state).await;
        read.map(|axum::extract::Path(path)| Self(path)).map_err(|e| Error(e.status(), e.body_text()))
    }
}

impl<T: JsonSchema> OperationInput for Path<T> {
    fn operation_input(ctx: &mut GenContext, operation: &mut Operation) {
        axum::extract::Path::<T>::operation_input(ctx, operation);
    }
}

/// A request's query.
pub struct Query<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for Query<T> {
    type Rejection = Error;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self> {
        let read = axum::extract::Query::from_request_parts(parts, state).await;
        read.map(|axum::extract::Query(query)| Self(query)).map_err(|e| Error(e.status(), e.body_text()))
    }
}

impl<T: JsonSchema> OperationInput for Query<T> {
    fn operation_input(ctx: &mut GenContext, operation: &mut Operation) {
        axum::extract::Query::<T>::operation_input(ctx, operation);
    }
}

/// The JSON a request carries where it carries some, else what is usual.
pub struct Brought<T>(pub T);

impl<T: DeserializeOwned + Default, S: Send + Sync> FromRequest<S> for Brought<T> {
    type Rejection = Error;

    async fn from_request(request: Request, state: &S) -> Result<Self> {
        if !request.headers().contains_key(header::CONTENT_TYPE) {
            return Ok(Self(T::default()));
        }
        Sent::from_request(request, state).await.map(|Sent(sent)| Self(sent))
    }
}

impl<T: JsonSchema> OperationInput for Brought<T> {
    fn operation_input(ctx: &mut GenContext, operation: &mut Operation) {
        axum::Json::<T>::operation_input(ctx, operation);
        if let Some(ReferenceOr::Item(body)) = &mut operation.request_body {
            body.required = false;
        }
    }
}

/// Something by its number.
#[derive(Deserialize, JsonSchema)]
pub struct Id {
    /// Its number.
    #[schemars(range(min = 1))]
    pub id: i64,
}

/// What is known of a run already.
#[derive(Default, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Since {
    /// When the last item ended that was told.
    pub since: i64,
}

/// A picture, or a file of all pictures, of a run.
#[derive(Deserialize, JsonSchema)]
pub struct ItemPath {
    /// The run's number.
    #[schemars(range(min = 1))]
    pub id: i64,
    /// Place in the run, from 0.
    #[schemars(range(min = 0))]
    pub position: i64,
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

impl<T: JsonSchema> OperationInput for Sent<T> {
    fn operation_input(ctx: &mut GenContext, operation: &mut Operation) {
        axum::Json::<T>::operation_input(ctx, operation);
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
    let sentence = reason.to_string();
    if reason.classify() != Category::Data {
        return Err(Error(StatusCode::BAD_REQUEST, format!("the request is not valid JSON: {sentence}")));
    }
    let what = sentence.split(" at line ").next().unwrap_or(&sentence);
    let place = if place == "." { String::new() } else { format!("{place}: ") };
    Err(Error::bad(match what.strip_prefix("missing field `") {
        Some(name) => format!("{place}{} is missing in the request", name.trim_end_matches('`')),
        None => format!("the request does not fit: {place}{what}"),
    }))
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
