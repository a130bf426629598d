//! Who may come in: tokens of scripts and sessions of people. Only hashes are kept.

use crate::{Result, Store, failed};

/// A script's token, without the token.
#[derive(Clone, Debug)]
pub struct Token {
    /// Identity.
    pub id: i64,
    /// What it is for.
    pub name: String,
    /// When it was made.
    pub made: String,
    /// When it was last used.
    pub used: Option<String>,
}

impl Store {
    /// Keeps a token's hash under a name.
    ///
    /// # Errors
    /// The database's.
    pub async fn add_token(&self, name: &str, hash: &str, when: &str) -> Result<i64> {
        sqlx::query_scalar("INSERT INTO tokens (name, hash, made) VALUES (?, ?, ?) RETURNING id")
            .bind(name)
            .bind(hash)
            .bind(when)
            .fetch_one(&self.pool)
            .await
            .map_err(failed)
    }

    /// Every token.
    ///
    /// # Errors
    /// The database's.
    pub async fn tokens(&self) -> Result<Vec<Token>> {
        sqlx::query_as("SELECT id, name, made, used FROM tokens ORDER BY id")
            .fetch_all(&self.pool)
            .await
            .map_err(failed)
    }

    /// Takes a token away; returns whether there was one.
    ///
    /// # Errors
    /// The database's.
    pub async fn remove_token(&self, id: i64) -> Result<bool> {
        let done = sqlx::query("DELETE FROM tokens WHERE id = ?")
            .bind(id)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(done.rows_affected() > 0)
    }

    /// Whether a token of that hash is known; when it was used is kept, to the minute.
    ///
    /// # Errors
    /// The database's.
    pub async fn use_token(&self, hash: &str, when: &str) -> Result<bool> {
        let used: Option<Option<String>> = sqlx::query_scalar("SELECT used FROM tokens WHERE hash = ?")
            .bind(hash)
            .fetch_optional(&self.pool)
            .await
            .map_err(failed)?;
        let Some(used) = used else { return Ok(false) };
        let minute = |t: &str| t.get(..16).map(str::to_owned);
        if used.as_deref().and_then(minute) != minute(when) {
            sqlx::query("UPDATE tokens SET used = ? WHERE hash = ?")
                .bind(when)
                .bind(hash)
                .execute(&self.pool)
                .await
                .map_err(failed)?;
        }
        Ok(true)
    }

    /// Keeps a session, and forgets those that have ended.
    ///
    /// # Errors
    /// The database's.
    pub async fn add_session(&self, hash: &str, ends: &str, now: &str) -> Result<()> {
        sqlx::query("DELETE FROM sessions WHERE ends <= ?")
            .bind(now)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        sqlx::query("INSERT INTO sessions (hash, ends) VALUES (?, ?)")
            .bind(hash)
            .bind(ends)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(())
    }

    /// Whether a session of that hash is open.
    ///
    /// # Errors
    /// The database's.
    pub async fn has_session(&self, hash: &str, now: &str) -> Result<bool> {
        sqlx::query_scalar("SELECT EXISTS (SELECT 1 FROM sessions WHERE hash = ? AND ends > ?)")
            .bind(hash)
            .bind(now)
            .fetch_one(&self.pool)
            .await
            .map_err(failed)
    }

    /// Ends a session; without a hash all of them.
    ///
    /// # Errors
    /// The database's.
    pub async fn end_session(&self, hash: Option<&str>) -> Result<()> {
        sqlx::query("DELETE FROM sessions WHERE ?1 IS NULL OR hash = ?1")
            .bind(hash)
            .execute(&self.pool)
            .await
            .map_err(failed)?;
        Ok(())
    }

    /// Keeps that a recipe's version was looked at as a proof.
    ///
    /// # Errors
    /// The database's.
    pub async fn keep_proof(&self, recipe: i64, version: i64, when: &str) -> Result<()> {
        sqlx::query(
            "INSERT INTO proofs (recipe_id, version, seen) VALUES (?1, ?2, ?3)
             ON CONFLICT (recipe_id) DO UPDATE SET version = ?2, seen = ?3",
        )
        .bind(recipe)
        .bind(version)
        .bind(when)
        .execute(&self.pool)
        .await
        .map_err(failed)?;
        Ok(())
    }

    /// The version of a recipe that was last looked at as a proof.
    ///
    /// # Errors
    /// The database's.
    pub async fn proof(&self, recipe: i64) -> Result<Option<i64>> {
        sqlx::query_scalar("SELECT version FROM proofs WHERE recipe_id = ?")
            .bind(recipe)
            .fetch_optional(&self.pool)
            .await
            .map_err(failed)
    }
}
