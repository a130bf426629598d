//! Who may ask: by the server's name, the page the request comes from, a session or a script's token, and for everything
//! that changes something the page's own token.

use crate::error::Problem;
use crate::{App, auth};
use axum::Router;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Redirect, Response};
use std::any::Any;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::set_header::SetResponseHeaderLayer;

const POLICY: &str = "default-src 'self'; img-src 'self' blob: data:; object-src 'none'; base-uri 'none'; \
                      form-action 'self'; frame-ancestors 'none'";

fn text<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    headers.get(name).and_then(|v| v.to_str().ok())
}

/// Why a request is refused.
type Refused = Box<Response>;

fn refuse(status: StatusCode, why: &'static str) -> Refused {
    Box::new(Problem::answer(status, why))
}

/// Whether a script's token came along; a wrong one is refused whatever else the request has.
async fn by_token(app: &App, headers: &HeaderMap) -> Result<bool, Refused> {
    let Some(given) = text(headers, "authorization") else { return Ok(false) };
    let wrong = || refuse(StatusCode::UNAUTHORIZED, "this token is not known; make one with rallo token add");
    let (kind, token) = given.split_once(' ').ok_or_else(wrong)?;
    if !kind.eq_ignore_ascii_case("bearer") {
        return Err(wrong());
    }
    match app.store.use_token(&auth::hashed(token.trim()), &rallo_runner::now()).await {
        Ok(true) => Ok(true),
        Ok(false) => Err(wrong()),
        Err(e) => {
            tracing::error!("tokens: {e}");
            Err(refuse(StatusCode::SERVICE_UNAVAILABLE, "the program's database did not answer; try again"))
        }
    }
}

async fn has_session(app: &App, headers: &HeaderMap) -> bool {
    let secret = text(headers, "cookie").and_then(auth::session);
    let Some(secret) = secret else { return false };
    app.store.has_session(&auth::hashed(secret), &rallo_runner::now()).await.unwrap_or(false)
}

/// Whether a page of another site is behind it: a picture or a form in it, not a link that somebody followed.
fn is_foreign(app: &App, headers: &HeaderMap, host: &str) -> bool {
    let scheme = if app.door.secure { "https" } else { "http" };
    let origin = text(headers, "origin").is_some_and(|o| o != format!("{scheme}://{host}"));
    let site = matches!(text(headers, "sec-fetch-site"), Some("cross-site" | "same-site"));
    origin || (site && text(headers, "sec-fetch-mode") != Some("navigate"))
}

async fn check(app: &App, method: &Method, path: &str, headers: &HeaderMap) -> Result<(), Refused> {
    let host = text(headers, "host").unwrap_or_default();
    if !app.door.hosts.iter().any(|n| n.eq_ignore_ascii_case(host)) {
        return Err(refuse(
            StatusCode::MISDIRECTED_REQUEST,
            "this server does not answer to that name; rallo serve --host NAME lets it",
        ));
    }
    if is_foreign(app, headers, host) {
        return Err(refuse(StatusCode::FORBIDDEN, "this request comes from another site's page"));
    }
    if by_token(app, headers).await? {
        return Ok(());
    }
    let open = path == "/login" || path.starts_with("/assets/");
    if app.door.locked && !open && !has_session(app, headers).await {
        let page = method == Method::GET && !path.starts_with("/api/") && path != "/events";
        return Err(if page {
            Box::new(Redirect::to("/login").into_response())
        } else {
            refuse(StatusCode::UNAUTHORIZED, "the passphrase is needed; open the page once more")
        });
    }
    let changes = method != Method::GET && method != Method::HEAD;
    let known = text(headers, "x-rallo-token").is_some_and(|t| auth::same(t, &app.token));
    // The passphrase's form has no page of ours to take a token from; its origin must be told instead.
    let form = path == "/login" && text(headers, "origin").is_some();
    if changes && !known && !form {
        return Err(refuse(
            StatusCode::FORBIDDEN,
            "this request did not come from this server's own page; reload it",
        ));
    }
    Ok(())
}

/// Checks Host, Origin, sessions and tokens.
pub async fn guard(State(app): State<App>, request: Request, next: Next) -> Response {
    // A body cannot be shared while something is waited for; what is checked does not need it.
    let (method, headers) = (request.method().clone(), request.headers().clone());
    let path = request.uri().path().to_owned();
    match check(&app, &method, &path, &headers).await {
        Ok(()) => next.run(request).await,
        Err(refused) => *refused,
    }
}

/// What every answer says to browsers, refusals too; and an answer where a handler fails.
pub fn wrapped(router: Router) -> Router {
    // A script and a style are what the page that asks for them may do; dozens of them come with a page.
    let of_documents = [
        (header::CONTENT_SECURITY_POLICY, POLICY),
        (HeaderName::from_static("cross-origin-opener-policy"), "same-origin"),
    ];
    let of_all = [
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "no-referrer"),
        (HeaderName::from_static("cross-origin-resource-policy"), "same-origin"),
    ];
    let failed = |_: Box<dyn Any + Send>| {
        Problem::answer(
            StatusCode::INTERNAL_SERVER_ERROR,
            "the program failed on this request; please report it",
        )
    };
    let router = of_documents.into_iter().fold(
        router.layer(CatchPanicLayer::custom(failed)),
        |router, (name, value)| {
            let told =
                move |answer: &Response| may_be_a_document(answer).then(|| HeaderValue::from_static(value));
            router.layer(SetResponseHeaderLayer::overriding(name, told))
        },
    );
    of_all.into_iter().fold(router, |router, (name, value)| {
        router.layer(SetResponseHeaderLayer::overriding(name, HeaderValue::from_static(value)))
    })
}

/// Whether a browser may show an answer as a page of its own.
fn may_be_a_document(answer: &Response) -> bool {
    let kind =
        answer.headers().get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or_default();
    !["text/javascript", "text/css", "font/"].iter().any(|other| kind.starts_with(other))
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::body::{Body, to_bytes};
    use axum::routing::get;
    use tower::ServiceExt;

    #[tokio::test]
    async fn a_handler_that_fails_is_answered_and_every_answer_has_its_headers() {
        let failing = || async {
            if true {
                panic!("as the test asks for")
            }
        };
        let script = || async { ([(header::CONTENT_TYPE, "text/javascript; charset=utf-8")], "1") };
        let router = wrapped(Router::new().route("/", get(failing)).route("/a.js", get(script)));
        let asked = Request::builder().uri("/a.js").body(Body::empty()).unwrap();
        let answer = router.clone().oneshot(asked).await.unwrap();
        assert_eq!(answer.headers()["x-content-type-options"], "nosniff");
        assert_eq!(answer.headers().get(header::CONTENT_SECURITY_POLICY), None);
        for (path, status) in [("/", 500), ("/nowhere", 404)] {
            let request = Request::builder().uri(path).body(Body::empty()).unwrap();
            let answer = router.clone().oneshot(request).await.unwrap();
            assert_eq!(answer.status().as_u16(), status);
            assert_eq!(answer.headers()["x-content-type-options"], "nosniff");
            assert_eq!(answer.headers()[header::CONTENT_SECURITY_POLICY], POLICY);
            if status == 500 {
                let told = to_bytes(answer.into_body(), 1000).await.unwrap();
                assert!(String::from_utf8_lossy(&told).contains("the program failed on this request"));
            }
        }
    }
}
