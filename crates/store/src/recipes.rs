//! Recipes and their versions: every saved change is kept.

use crate::{Error, Result, Store, failed};

/// A recipe in its present version.
#[derive(Clone, Debug)]
pub struct RecipeRow {
    /// Identity.
    pub id: i64,
    /// Name.
    pub name: String,
    /// Version, from 1; each saved change is one.
    pub version: i64,
    /// The document.
    pub document: String,
    /// When it was saved.
    pub saved: String,
}

/// A version of a recipe.
#[derive(Clone, Debug)]
pub struct VersionRow {
    /// From 1.
    pub version: i64,
    /// The document as it was.
    pub document: String,
    /// When it was saved.
    pub saved: String,
}

impl Store {
    /// Every recipe, last saved first.
    ///
    /// # Errors
    /// The database's.
    pub async fn recipes(&self) -> Result<Vec<RecipeRow>> {
        sqlx::query_as("SELECT * FROM recipes ORDER BY saved DESC, id DESC")
            .fetch_all(&self.pool)
            .await
            .map_err(failed)
    }

    /// One recipe.
    ///
    /// # Errors
    /// [`Error::NotFound`], and the database's.
    pub async fn recipe(&self, id: i64) -> Result<RecipeRow> {
        sqlx::query_as("SELECT * FROM recipes WHERE id = ?")
            .bind(id)
            .fetch_optional(&self.pool)
            .await
            .map_err(failed)?
            .ok_or_else(|| Error::not_found("recipe", id))
    }

    /// Saves a new recipe as version 1, or a changed one as its next version; an unchanged one stays as it is.
    /// `expected` is the version the change was made from: a change made from another one is refused.
    ///
    /// # Errors
    /// The database's; `Ok(None)` when the recipe has meanwhile another version.
    pub async fn save_recipe(
        &self,
        id: Option<i64>,
        expected: i64,
        name: &str,
        document: &str,
        when: &str,
    ) -> Result<Option<RecipeRow>> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        let row: RecipeRow = match id {
            None => sqlx::query_as(
                "INSERT INTO recipes (name, version, document, saved) VALUES (?, 1, ?, ?) RETURNING *",
            )
            .bind(name)
            .bind(document)
            .bind(when)
            .fetch_one(&mut *tx)
            .await
            .map_err(failed)?,
            Some(id) => {
                let old: RecipeRow = sqlx::query_as("SELECT * FROM recipes WHERE id = ?")
                    .bind(id)
                    .fetch_optional(&mut *tx)
                    .await
                    .map_err(failed)?
                    .ok_or_else(|| Error::not_found("recipe", id))?;
                if old.document == document {
                    return Ok(Some(old));
                }
                if old.version != expected {
                    return Ok(None);
                }
                sqlx::query_as(
                    "UPDATE recipes SET name = ?, version = version + 1, document = ?, saved = ? WHERE id = ? RETURNING *",
                )
                .bind(name)
                .bind(document)
                .bind(when)
                .bind(id)
                .fetch_one(&mut *tx)
                .await.map_err(failed)?
            }
        };
        sqlx::query("INSERT INTO recipe_versions (recipe_id, version, document, saved) VALUES (?, ?, ?, ?)")
            .bind(row.id)
            .bind(row.version)
            .bind(document)
            .bind(when)
            .execute(&mut *tx)
            .await
            .map_err(failed)?;
        tx.commit().await.map_err(failed)?;
        Ok(Some(row))
    }

    /// A recipe's versions, the newest first.
    ///
    /// # Errors
    /// The database's.
    pub async fn recipe_versions(&self, id: i64) -> Result<Vec<VersionRow>> {
        sqlx::query_as(
            "SELECT version, document, saved FROM recipe_versions WHERE recipe_id = ? ORDER BY version DESC",
        )
        .bind(id)
        .fetch_all(&self.pool)
        .await
        .map_err(failed)
    }

    /// One version of a recipe.
    ///
    /// # Errors
    /// [`Error::NotFound`], and the database's.
    pub async fn recipe_version(&self, id: i64, version: i64) -> Result<VersionRow> {
        sqlx::query_as(
            "SELECT version, document, saved FROM recipe_versions WHERE recipe_id = ? AND version = ?",
        )
        .bind(id)
        .bind(version)
        .fetch_optional(&self.pool)
        .await
        .map_err(failed)?
        .ok_or_else(|| Error::not_found("version", version))
    }

    /// Removes a recipe with its versions and proof; runs and watched folders keep the document they were started with.
    /// Its number may be given to another recipe, so nothing else may hold on to it.
    ///
    /// # Errors
    /// The database's.
    pub async fn remove_recipe(&self, id: i64) -> Result<()> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await.map_err(failed)?;
        for query in [
            "DELETE FROM proofs WHERE recipe_id = ?",
            "UPDATE runs SET recipe_id = NULL WHERE recipe_id = ?",
            "UPDATE watches SET recipe_id = NULL WHERE recipe_id = ?",
            "DELETE FROM recipes WHERE id = ?",
        ] {
            sqlx::query(query).bind(id).execute(&mut *tx).await.map_err(failed)?;
        }
        tx.commit().await.map_err(failed)
    }
}
