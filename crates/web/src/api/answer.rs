//! What handlers answer beside JSON, and how the interface's document tells of it.

use crate::error::{Error, Result};
use aide::OperationOutput;
use aide::generate::GenContext;
use aide::openapi::{
    MediaType, Operation, ReferenceOr, RequestBody, Response as Described, StatusCode as Status,
};
use aide::transform::TransformOperation;
use axum::body::{Body, Bytes};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use rallo_media::{Chroma, Encoding};
use schemars::JsonSchema;
use serde::Serialize;

/// Done; there is nothing to tell.
#[derive(Serialize, JsonSchema)]
pub struct Done {}

/// A picture.
pub struct Image {
    /// The file.
    pub bytes: Vec<u8>,
    /// Its media type.
    pub kind: &'static str,
    /// Whether the address always gives this picture, so that a browser may keep it.
    pub keep: bool,
}

impl Image {
    /// A JPEG that is another one the next time.
    pub fn jpeg(bytes: Vec<u8>) -> Self {
        Self { bytes, kind: "image/jpeg", keep: false }
    }
}

/// What pictures that are looked at closely are sent as.
pub const FOR_SCREENS: Encoding =
    Encoding::Jpeg { quality: 92, chroma: Chroma::Full, progressive: false, optimised: false };

/// A picture behind what is told of it: four bytes of length, so many of JSON, the file.
///
/// # Errors
/// [`Error`] where what is told cannot be written.
pub fn after_head(head: &impl Serialize, file: &[u8]) -> Result<Vec<u8>> {
    let head = serde_json::to_vec(head).map_err(Error::bad)?;
    Ok([&(head.len() as u32).to_le_bytes()[..], &head, file].concat())
}

impl IntoResponse for Image {
    fn into_response(self) -> Response {
        let cache = if self.keep { "private, max-age=31536000, immutable" } else { "no-store" };
        let head = [(header::CONTENT_TYPE, self.kind), (header::CACHE_CONTROL, cache)];
        (head, Bytes::from(self.bytes)).into_response()
    }
}

/// An answer of these media types.
fn described(description: &str, kinds: &[&str]) -> Described {
    Described {
        description: description.to_owned(),
        content: kinds.iter().map(|kind| ((*kind).to_owned(), MediaType::default())).collect(),
        ..Described::default()
    }
}

impl OperationOutput for Image {
    type Inner = Self;

    fn operation_response(_: &mut GenContext, _: &mut Operation) -> Option<Described> {
        Some(described("The picture.", &["image/jpeg", "image/png", "image/webp", "image/avif"]))
    }

    fn inferred_responses(ctx: &mut GenContext, operation: &mut Operation) -> Vec<(Option<u16>, Described)> {
        Self::operation_response(ctx, operation).into_iter().map(|answer| (Some(200), answer)).collect()
    }
}

/// What an operation does, in a few words.
pub fn about(summary: &'static str) -> impl FnOnce(TransformOperation<'_>) -> TransformOperation<'_> {
    move |operation| operation.summary(summary)
}

/// What an operation does whose answer is a file of this media type.
pub fn file(
    summary: &'static str,
    kind: &'static str,
) -> impl FnOnce(TransformOperation<'_>) -> TransformOperation<'_> {
    move |mut operation| {
        let answers = operation.inner_mut().responses.get_or_insert_default();
        let answer = ReferenceOr::Item(described("The file.", &[kind]));
        answers.responses.insert(Status::Code(200), answer);
        operation.summary(summary)
    }
}

/// An operation that takes a file of this media type.
pub fn takes_file<'t>(mut operation: TransformOperation<'t>, kind: &str) -> TransformOperation<'t> {
    let content = [(kind.to_owned(), MediaType::default())].into_iter().collect();
    let body = RequestBody { content, required: true, ..RequestBody::default() };
    operation.inner_mut().request_body = Some(ReferenceOr::Item(body));
    operation
}

/// What an operation does whose answer is a JSON file that holds a `T`.
pub fn json_file<T: JsonSchema + Serialize>(
    summary: &'static str,
) -> impl FnOnce(TransformOperation<'_>) -> TransformOperation<'_> {
    move |operation| operation.summary(summary).response::<200, axum::Json<T>>()
}

/// Something that is kept under a name, as an answer (RFC 6266).
pub fn attached(body: impl Into<Body>, kind: &'static str, name: &str) -> Response {
    let is_plain = |c: char| c.is_ascii() && !c.is_control() && !['"', '\\'].contains(&c);
    let plain: String = name.chars().map(|c| if is_plain(c) { c } else { '_' }).collect();
    let to = format!(
        "attachment; filename=\"{plain}\"; filename*=UTF-8''{}",
        rallo_runner::assemble::web_gallery::address(name)
    );
    ([(header::CONTENT_TYPE, kind.to_owned()), (header::CONTENT_DISPOSITION, to)], body.into())
        .into_response()
}
