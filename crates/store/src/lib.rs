//! SQLite: migrations and typed queries.
