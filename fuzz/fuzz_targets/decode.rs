//! Opens a file of any bytes and decodes it; `RALLO_FUZZ` names the format that is meant (`jpeg`, `tiff`, …), and inputs of
//! others are passed over. See `script/fuzz`.
#![no_main]

use libfuzzer_sys::{Corpus, fuzz_target};
use rallo_media::{FileSource, Format};

fuzz_target!(|bytes: &[u8]| -> Corpus {
    let wanted = std::env::var("RALLO_FUZZ").unwrap_or_default();
    let Ok(format) = Format::of(bytes) else { return Corpus::Reject };
    if format!("{format:?}").to_lowercase() != wanted {
        return Corpus::Reject;
    }
    // More pixels only take longer.
    if let Ok(source) = FileSource::from_bytes(bytes.to_vec())
        && source.decoded_bytes(0) < 4_000_000
    {
        let _ = source.decode(0);
    }
    Corpus::Keep
});
