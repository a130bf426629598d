//! What goes wrong in a handler, as a status and a sentence for people.
//!
//! Every refusal has one shape, the problem details of RFC 9457: `{"title": …, "status": …, "detail": …}` as
//! `application/problem+json`, where `detail` is the sentence.

use aide::OperationOutput;
use aide::generate::GenContext;
use aide::openapi::{MediaType, Operation, Response as Described, SchemaObject};
use axum::Json;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use rallo_recipe::Faults;
use rallo_runner::files::allowed_folders::Refused;
use schemars::JsonSchema;
use serde::Serialize;
use std::io::ErrorKind;

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
#[derive(Debug, Serialize, JsonSchema)]
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

impl OperationOutput for Error {
    type Inner = Problem;

    fn operation_response(ctx: &mut GenContext, _: &mut Operation) -> Option<Described> {
        let schema = SchemaObject {
            json_schema: ctx.schema.subschema_for::<Problem>(),
            external_docs: None,
            example: None,
        };
        let kind = MediaType { schema: Some(schema), ..MediaType::default() };
        Some(Described {
            description: "Why not.".into(),
            content: [("application/problem+json".to_owned(), kind)].into_iter().collect(),
            ..Described::default()
        })
    }

    fn inferred_responses(ctx: &mut GenContext, operation: &mut Operation) -> Vec<(Option<u16>, Described)> {
        Self::operation_response(ctx, operation).into_iter().map(|refusal| (None, refusal)).collect()
    }
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
            e @ rallo_job::Error::NoRoom => {
                tracing::error!("records: {e}");
                Self(StatusCode::INSUFFICIENT_STORAGE, format!("{e}; free some, and try again"))
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
        let status = match &e {
            Refused::Missing(_, why) if why.kind() == ErrorKind::NotFound => StatusCode::NOT_FOUND,
            _ => StatusCode::FORBIDDEN,
        };
        Self(status, e.to_string())
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
