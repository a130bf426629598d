//! How large files and pictures may be.

/// Most pixels a picture may have.
pub const MAX_PIXELS: u64 = 400_000_000;

/// Largest file that is read.
pub const MAX_BYTES: u64 = 2_000_000_000;
