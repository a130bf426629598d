//! Codecs and camera data: files to engine pictures and back.
