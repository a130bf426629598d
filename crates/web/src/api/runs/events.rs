//! What happens to runs and frames, as server-sent events.

use crate::App;
use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use rallo_job::prelude::*;
use tokio::sync::broadcast::error::RecvError;

/// Progress of every run, as it happens.
pub(super) async fn events(State(app): State<App>) -> Response {
    let receiver = app.queue.events();
    let stream = async_stream::stream! {
        let mut receiver = receiver;
        // What is open now first, so that a page that was reloaded is true at once.
        for run in app.store.open_runs().await.unwrap_or_default() {
            if let Ok(state) = app.queue.state(&run).await {
                yield Ok::<_, std::convert::Infallible>(Event::default().json_data(state).unwrap_or_default());
            }
        }
        let mut news = app.frames.news();
        loop {
            // Whoever is too slow misses some; the next one says how things are.
            tokio::select! {
                told = receiver.recv() => match told {
                    Ok(state) => yield Ok(Event::default().json_data(state).unwrap_or_default()),
                    Err(RecvError::Lagged(_)) => {}
                    Err(RecvError::Closed) => break,
                },
                told = news.recv() => match told {
                    Ok(news) => yield Ok(Event::default().event("frames").json_data(news).unwrap_or_default()),
                    Err(RecvError::Lagged(_)) => {}
                    Err(RecvError::Closed) => break,
                },
            }
        }
    };
    Sse::new(stream).keep_alive(KeepAlive::default()).into_response()
}
