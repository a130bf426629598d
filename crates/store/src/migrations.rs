//! The steps that bring a database up to date, oldest first.

use sqlx::SqlStr;
use sqlx::migrate::{Migration, MigrationType, Migrator};
use std::borrow::Cow;

macro_rules! files {
    ($($version:literal: $name:literal),* $(,)?) => {
        &[$(($version, $name, include_str!(concat!("../migrations/000", $version, "_", $name, ".sql")))),*]
    };
}

const FILES: &[(i64, &str, &str)] = files![
    1: "start",
    2: "choice",
    3: "decided",
    4: "own",
    5: "queue",
    6: "ways_in",
    7: "together",
    8: "names",
    9: "phases",
];

/// The migrations, built in without a macro of the database library: that one would build the database a second time
/// for the compiler's side.
pub fn migrator() -> Migrator {
    let migration = |(version, name, sql): &(i64, &'static str, &'static str)| {
        Migration::new(*version, Cow::Borrowed(*name), MigrationType::Simple, SqlStr::from_static(sql), false)
    };
    Migrator { migrations: FILES.iter().map(migration).collect(), ..Migrator::DEFAULT }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_file_of_the_folder_is_a_migration() {
        let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/migrations");
        let mut there: Vec<String> = std::fs::read_dir(folder)
            .unwrap()
            .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
            .collect();
        there.sort();
        let listed: Vec<String> =
            FILES.iter().map(|(version, name, _)| format!("{version:04}_{name}.sql")).collect();
        assert_eq!(there, listed);
    }
}
