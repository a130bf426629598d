//! The steps that bring a database up to date, oldest first.

use sqlx::SqlStr;
use sqlx::migrate::{Migration, MigrationType, Migrator};
use std::borrow::Cow;

macro_rules! files {
    ($($version:literal: $file:literal),* $(,)?) => {
        &[$(($version, $file, include_str!(concat!("../migrations/", $file, ".sql")))),*]
    };
}

const FILES: &[(i64, &str, &str)] = files![
    1: "0001_start",
    2: "0002_choice",
    3: "0003_decided",
    4: "0004_own",
    5: "0005_queue",
    6: "0006_ways_in",
    7: "0007_together",
    8: "0008_names",
    9: "0009_phases",
    10: "0010_counts",
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
        let listed: Vec<String> = FILES.iter().map(|(_, file, _)| format!("{file}.sql")).collect();
        assert_eq!(there, listed);
        assert!(FILES.iter().all(|(version, file, _)| file.starts_with(&format!("{version:04}_"))));
    }
}
