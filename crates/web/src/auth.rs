//! Passphrase, sessions and tokens: who may come in. Only hashes are kept; what is secret is never in the log.

use crate::error::{Error, Result};
use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};
use argon2::{Algorithm, Argon2, Params, Version};
use rallo_job::clock::text_of;
use rallo_job::prelude::*;
use rallo_media::content_hash;
use rallo_store::Store;
use std::sync::Mutex;
use std::time::{Duration, Instant};
use subtle::ConstantTimeEq;

/// Name of the cookie that carries a session.
pub const COOKIE: &str = "rallo_session";
/// How long a session lasts.
pub const DAYS: i64 = 30;
/// Shortest passphrase.
pub const SHORTEST: usize = 8;
/// Wrong passphrases that may be tried within [`WINDOW`].
const TRIES: usize = 10;
const WINDOW: Duration = Duration::from_secs(60);
const SETTING: &str = "passphrase";

/// Random bytes as hexadecimal digits.
///
/// # Errors
/// The system's.
pub fn random(bytes: usize) -> std::io::Result<String> {
    let mut secret = vec![0u8; bytes];
    getrandom::fill(&mut secret).map_err(|e| std::io::Error::other(e.to_string()))?;
    Ok(secret.iter().map(|b| format!("{b:02x}")).collect())
}

/// Why a token or a passphrase is not kept.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AuthError {
    /// A token without a name, or with one that is too long.
    #[error("a name of 1 to 80 characters is needed")]
    Name,
    /// A passphrase that is too short.
    #[error("a passphrase has at least {SHORTEST} characters; a few words are best")]
    Short,
    /// There is no chance to be had from the system.
    #[error("the system gives no random bytes: {0}")]
    Random(#[from] std::io::Error),
    /// It cannot be hashed.
    #[error("the passphrase cannot be hashed: {0}")]
    Hash(String),
    /// The records do not answer.
    #[error(transparent)]
    Records(#[from] rallo_job::Error),
}

/// Makes a token under a name; its number and the token itself, which nobody can read again.
///
/// # Errors
/// [`AuthError`].
pub async fn new_token(store: &Store, name: &str) -> std::result::Result<(i64, String), AuthError> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 80 {
        return Err(AuthError::Name);
    }
    let token = random(32)?;
    let id = store.add_token(name, &hashed(&token), &rallo_runner::now()).await?;
    Ok((id, token))
}

/// A secret as it is kept and looked up.
pub fn hashed(secret: &str) -> String {
    content_hash(secret.as_bytes())
}

/// Argon2id with what OWASP's password storage sheet recommends (19 MiB, two passes, one lane).
fn argon() -> Argon2<'static> {
    Argon2::new(Algorithm::Argon2id, Version::V0x13, Params::DEFAULT)
}

/// Keeps a passphrase, and ends every session that knew another one.
///
/// # Errors
/// [`AuthError`].
pub async fn set_passphrase(store: &Store, passphrase: &str) -> std::result::Result<(), AuthError> {
    if passphrase.chars().count() < SHORTEST {
        return Err(AuthError::Short);
    }
    let hashing = |e: argon2::password_hash::Error| AuthError::Hash(e.to_string());
    let salt = SaltString::from_b64(&random(16)?).map_err(hashing)?;
    let hash = argon().hash_password(passphrase.as_bytes(), &salt).map_err(hashing)?.to_string();
    store.set_setting(SETTING, &hash).await?;
    Ok(store.end_session(None).await?)
}

/// Whether there is a passphrase.
///
/// # Errors
/// The store's.
pub async fn has_passphrase(store: &Store) -> rallo_store::Result<bool> {
    Ok(store.setting(SETTING).await?.is_some())
}

/// The door: passphrases are checked one at a time, and only so many wrong ones in a minute.
#[derive(Default)]
pub struct Door {
    wrong: Mutex<Vec<Instant>>,
    busy: tokio::sync::Mutex<()>,
}

impl Door {
    fn wrong(&self) -> std::sync::MutexGuard<'_, Vec<Instant>> {
        self.wrong.lock().unwrap_or_else(|p| p.into_inner())
    }

    /// Checks a passphrase and opens a session; its secret.
    ///
    /// # Errors
    /// For a wrong one, and for too many of them.
    pub async fn open(&self, store: &Store, passphrase: String) -> Result<String> {
        let _one = self.busy.lock().await;
        {
            let mut wrong = self.wrong();
            wrong.retain(|t| t.elapsed() < WINDOW);
            if wrong.len() >= TRIES {
                let message = "too many wrong passphrases; wait a minute, then try again";
                return Err(Error(axum::http::StatusCode::TOO_MANY_REQUESTS, message.into()));
            }
        }
        let hash = store.setting(SETTING).await?.unwrap_or_default();
        let right = tokio::task::spawn_blocking(move || {
            let hash = PasswordHash::new(&hash).ok()?;
            argon().verify_password(passphrase.as_bytes(), &hash).ok()
        })
        .await?
        .is_some();
        if !right {
            self.wrong().push(Instant::now());
            return Err(Error(axum::http::StatusCode::UNAUTHORIZED, "that is not the passphrase".into()));
        }
        let secret = random(32).map_err(Error::bad)?;
        let now = jiff::Timestamp::now();
        let ends = now + jiff::SignedDuration::from_hours(24 * DAYS);
        store.add_session(&hashed(&secret), &text_of(ends), &text_of(now)).await?;
        Ok(secret)
    }
}

/// The session's secret among the cookies of a request.
pub fn session(cookies: &str) -> Option<&str> {
    cookies.split(';').filter_map(|c| c.trim().split_once('=')).find(|(n, _)| *n == COOKIE).map(|(_, v)| v)
}

/// Whether two texts are the same, in a time that does not tell where they differ.
pub fn same(a: &str, b: &str) -> bool {
    a.as_bytes().ct_eq(b.as_bytes()).into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn only_the_passphrase_opens_and_only_so_often_a_wrong_one_is_tried() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(&folder.path().join("s")).await.unwrap();
        let door = Door::default();
        assert!(door.open(&store, String::new()).await.is_err(), "without a passphrase nothing opens");
        assert!(set_passphrase(&store, "short").await.is_err());
        set_passphrase(&store, "pots and seedlings").await.unwrap();
        let kept = store.setting(SETTING).await.unwrap().unwrap();
        assert!(kept.starts_with("$argon2id$") && !kept.contains("seedlings"));
        let secret = door.open(&store, "pots and seedlings".into()).await.unwrap();
        assert!(store.has_session(&hashed(&secret), &rallo_runner::now()).await.unwrap());
        assert!(!store.has_session(&secret, &rallo_runner::now()).await.unwrap(), "the secret is not kept");
        assert!(!store.has_session(&hashed(&secret), "2999-01-01T00:00:00Z").await.unwrap());
        for _ in 1..TRIES {
            assert_eq!(door.open(&store, "pots and pans".into()).await.unwrap_err().0.as_u16(), 401);
        }
        assert_eq!(door.open(&store, "pots and seedlings".into()).await.unwrap_err().0.as_u16(), 429);
        set_passphrase(&store, "another one").await.unwrap();
        assert!(!store.has_session(&hashed(&secret), &rallo_runner::now()).await.unwrap());
    }

    #[test]
    fn cookies_are_found_by_their_whole_name() {
        assert_eq!(session("a=1; rallo_session=x; b=2"), Some("x"));
        assert_eq!(session("not_rallo_session=x"), None);
        assert_eq!(session(""), None);
        assert!(same("abc", "abc") && !same("abc", "abd") && !same("abc", "ab"));
    }
}
