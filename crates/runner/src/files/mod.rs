//! Files on the disk: written whole or not at all, only in allowed folders.

pub mod allowed_folders;
pub(crate) mod atomic_file;
pub mod file_names;
pub mod free_space;
pub mod zip;

pub use atomic_file::worker_name;
