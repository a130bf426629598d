//! Who may ask: pages of this server only, by name and by token.

use crate::App;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

const POLICY: &str = "default-src 'self'; img-src 'self' blob: data:; object-src 'none'; base-uri 'none'; \
                      form-action 'self'; frame-ancestors 'none'";

fn text<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    headers.get(name).and_then(|v| v.to_str().ok())
}

/// Checks Host, Origin and, for everything that changes something, the token; sets the content policy.
pub async fn guard(State(app): State<App>, request: Request, next: Next) -> Response {
    let headers = request.headers();
    let names = ["127.0.0.1", "localhost", "[::1]"].map(|name| format!("{name}:{}", app.port));
    let host = text(headers, "host").unwrap_or_default();
    if !names.iter().any(|n| n == host) {
        return (StatusCode::MISDIRECTED_REQUEST, "this server answers on loopback only").into_response();
    }
    let foreign = text(headers, "origin").is_some_and(|o| o != format!("http://{host}"));
    let changes = request.method() != Method::GET && request.method() != Method::HEAD;
    let known = text(headers, "x-rallo-token") == Some(app.token.as_str());
    if foreign || (changes && !known) {
        return (StatusCode::FORBIDDEN, "this request did not come from this server's own page; reload it")
            .into_response();
    }
    let mut response = next.run(request).await;
    let set = response.headers_mut();
    set.insert(header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(POLICY));
    set.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    set.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    response
}
