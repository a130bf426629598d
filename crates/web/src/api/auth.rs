//! The passphrase's page, and tokens for scripts.

use super::answer::{Done, about};
use crate::error::{Error, Result};
use crate::request::{Id, Path, Sent};
use crate::words;
use crate::{App, auth};
use aide::axum::ApiRouter;
use aide::axum::routing::{delete_with, get_with, post_with};
use askama::Template;
use axum::Json;
use axum::extract::{Form, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub fn routes() -> ApiRouter<App> {
    ApiRouter::new()
        .route("/login", axum::routing::get(door).post(come_in))
        .api_route("/api/logout", post_with(leave, about("End this session")))
        .api_route(
            "/api/tokens",
            get_with(tokens, about("Tokens of scripts"))
                .post_with(make, about("Make one; it is told this once")),
        )
        .api_route("/api/tokens/{id}", delete_with(remove, about("Take one away")))
}

#[derive(Template)]
#[template(path = "login.html")]
struct Login {
    wrong: String,
}

fn page(status: StatusCode, wrong: String) -> Result<Response> {
    let html = Login { wrong }.render().map_err(Error::bad)?;
    Ok((status, Html(html)).into_response())
}

async fn door() -> Result<Response> {
    page(StatusCode::OK, String::new())
}

#[derive(Deserialize)]
struct Said {
    passphrase: String,
}

async fn come_in(State(app): State<App>, Form(said): Form<Said>) -> Result<Response> {
    if !app.door.locked {
        return Ok(Redirect::to("/frames").into_response());
    }
    match app.door.keeper.open(&app.store, said.passphrase).await {
        Ok(secret) => {
            let secure = if app.door.secure { "; Secure" } else { "" };
            let age = auth::DAYS * 24 * 3600;
            let cookie = format!(
                "{}={secret}; HttpOnly; SameSite=Strict; Path=/; Max-Age={age}{secure}",
                auth::COOKIE
            );
            let mut response = Redirect::to("/frames").into_response();
            response
                .headers_mut()
                .insert(header::SET_COOKIE, HeaderValue::from_str(&cookie).map_err(Error::bad)?);
            Ok(response)
        }
        Err(Error(status, why)) => page(status, why),
    }
}

async fn leave(State(app): State<App>, headers: HeaderMap) -> Result<Json<Done>> {
    let cookies = headers.get(header::COOKIE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    if let Some(secret) = auth::session(cookies) {
        app.store.end_session(Some(&auth::hashed(secret))).await?;
    }
    Ok(Json(Done {}))
}

/// A script's token; the token itself is kept nowhere.
#[derive(Serialize, JsonSchema)]
struct TokenEntry {
    /// Its number.
    id: i64,
    /// What it is for.
    name: String,
    /// When it was made (RFC 3339).
    made: String,
    /// When it was last used.
    used: Option<String>,
}

async fn tokens(State(app): State<App>) -> Result<Json<Vec<TokenEntry>>> {
    let entry = |t: rallo_store::Token| TokenEntry { id: t.id, name: t.name, made: t.made, used: t.used };
    Ok(Json(app.store.tokens().await?.into_iter().map(entry).collect()))
}

/// A token to be made.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// What it is for.
    #[schemars(length(min = 1, max = 80))]
    name: String,
}

/// A token, told this once.
#[derive(Serialize, JsonSchema)]
struct TokenMade {
    /// Its number.
    id: i64,
    /// The token.
    token: String,
}

/// Makes a token; it is told this once and never again.
async fn make(State(app): State<App>, Sent(new): Sent<NewToken>) -> Result<Json<TokenMade>> {
    let (id, token) = auth::new_token(&app.store, &new.name).await.map_err(Error::bad)?;
    Ok(Json(TokenMade { id, token }))
}

async fn remove(State(app): State<App>, Path(Id { id }): Path<Id>) -> Result<Json<Done>> {
    if !app.store.remove_token(id).await? {
        return Err(Error(StatusCode::NOT_FOUND, "there is no such token any more".into()));
    }
    Ok(Json(Done {}))
}
