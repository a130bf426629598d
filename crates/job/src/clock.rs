//! The clock, so that what waits for a time can be tested without waiting.

use async_trait::async_trait;
use jiff::Timestamp;
use std::sync::Mutex;
use std::time::Duration;
use tokio::sync::Notify;

/// Tells the time and waits for it.
#[async_trait]
pub trait Clock: Send + Sync {
    /// Now.
    fn now(&self) -> Timestamp;

    /// Returns when so much time has gone by.
    async fn sleep(&self, time: Duration);

    /// Milliseconds since 1970, as leases are kept.
    fn millis(&self) -> i64 {
        self.now().as_millisecond()
    }

    /// The time as records keep it: RFC 3339, in whole seconds of UTC.
    fn text(&self) -> String {
        text_of(self.now())
    }
}

/// A time as records keep it: RFC 3339, in whole seconds of UTC.
pub fn text_of(time: Timestamp) -> String {
    time.strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}

/// This machine's clock.
#[derive(Clone, Copy, Debug, Default)]
pub struct SystemClock;

#[async_trait]
impl Clock for SystemClock {
    fn now(&self) -> Timestamp {
        Timestamp::now()
    }

    async fn sleep(&self, time: Duration) {
        tokio::time::sleep(time).await;
    }
}

/// A clock for tests: it stands until it is moved on.
#[derive(Debug)]
pub struct ManualClock {
    now: Mutex<Timestamp>,
    moved: Notify,
}

impl ManualClock {
    /// Stands at that time.
    pub fn at(now: Timestamp) -> Self {
        Self { now: Mutex::new(now), moved: Notify::new() }
    }

    /// Moves on, and wakes whoever waits for a time that has come.
    pub fn advance(&self, time: Duration) {
        {
            let mut now = self.now.lock().unwrap_or_else(|p| p.into_inner());
            *now = now
                .saturating_add(jiff::SignedDuration::try_from(time).unwrap_or(jiff::SignedDuration::MAX))
                .unwrap_or(Timestamp::MAX);
        }
        self.moved.notify_waiters();
    }
}

#[async_trait]
impl Clock for ManualClock {
    fn now(&self) -> Timestamp {
        *self.now.lock().unwrap_or_else(|p| p.into_inner())
    }

    async fn sleep(&self, time: Duration) {
        let until = self.millis() + i64::try_from(time.as_millis()).unwrap_or(i64::MAX / 2);
        loop {
            let moved = self.moved.notified();
            tokio::pin!(moved);
            // Listening before looking, so that no move is missed in between.
            moved.as_mut().enable();
            if self.millis() >= until {
                return;
            }
            moved.await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;

    #[tokio::test]
    async fn a_clock_that_is_moved_on_wakes_what_waits_and_nothing_else() {
        let clock = Arc::new(ManualClock::at("2026-05-04T10:00:00Z".parse().unwrap()));
        let waiting = {
            let clock = clock.clone();
            tokio::spawn(async move { clock.sleep(Duration::from_secs(60)).await })
        };
        tokio::task::yield_now().await;
        clock.advance(Duration::from_secs(59));
        tokio::task::yield_now().await;
        assert!(!waiting.is_finished());
        clock.advance(Duration::from_secs(1));
        waiting.await.unwrap();
        assert_eq!(clock.text(), "2026-05-04T10:01:00Z");
        assert_eq!(clock.millis() % 1000, 0);
    }
}
