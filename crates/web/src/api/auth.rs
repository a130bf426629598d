//! The passphrase's page, and tokens for scripts.

use crate::error::{Error, Result, Sent};
use crate::{App, auth};
use askama::Template;
use axum::extract::{Form, Path, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::{delete, get, post};
use axum::{Json, Router};
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Value, json};

pub fn routes() -> Router<App> {
    Router::new()
        .route("/login", get(door).post(come_in))
        .route("/api/logout", post(leave))
        .route("/api/tokens", get(tokens).post(make))
        .route("/api/tokens/{id}", delete(remove))
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

async fn leave(State(app): State<App>, headers: HeaderMap) -> Result<Json<Value>> {
    let cookies = headers.get(header::COOKIE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    if let Some(secret) = auth::session(cookies) {
        app.store.end_session(Some(&auth::hashed(secret))).await?;
    }
    Ok(Json(json!({})))
}

async fn tokens(State(app): State<App>) -> Result<Json<Value>> {
    let all = app.store.tokens().await?;
    let one = |t: &rallo_store::Token| json!({"id": t.id, "name": t.name, "made": t.made, "used": t.used});
    Ok(Json(all.iter().map(one).collect()))
}

#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// What it is for.
    name: String,
}

/// Makes a token; it is told this once and never again.
async fn make(State(app): State<App>, Sent(new): Sent<NewToken>) -> Result<Json<Value>> {
    let (id, token) = auth::new_token(&app.store, &new.name).await.map_err(Error::bad)?;
    Ok(Json(json!({"id": id, "token": token})))
}

async fn remove(State(app): State<App>, Path(id): Path<i64>) -> Result<Json<Value>> {
    if !app.store.remove_token(id).await? {
        return Err(Error(StatusCode::NOT_FOUND, "there is no such token any more".into()));
    }
    Ok(Json(json!({})))
}
