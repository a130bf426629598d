//! Files in one: a ZIP (APPNOTE 6.3) of results. Pictures are compressed already, so they are only stored.

use crate::library::scan::common_folder;
use std::collections::HashSet;
use std::fs::File;
use std::io::{Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

/// Writes a ZIP of `files` into a file without a name in `place`, which is gone when it is closed; it stands at its
/// beginning.
///
/// # Errors
/// The system's.
pub fn write(files: &[PathBuf], place: &Path) -> std::io::Result<File> {
    let mut file = tempfile::tempfile_in(place)?;
    pack(&file, files, &[])?;
    file.seek(SeekFrom::Start(0))?;
    Ok(file)
}

/// Packs `files`, and `more` texts by their names, into an open file. Names are those below the folder that all files lie
/// in.
///
/// # Errors
/// The system's.
pub fn pack(to: &File, files: &[PathBuf], more: &[(&str, &[u8])]) -> std::io::Result<()> {
    let base = common_folder(files);
    let mut zip = ZipWriter::new(to);
    let options = SimpleFileOptions::default().compression_method(CompressionMethod::Stored);
    let mut names: HashSet<String> = more.iter().map(|(name, _)| (*name).to_owned()).collect();
    for path in files {
        let name = path.strip_prefix(&base).unwrap_or(path).to_string_lossy().into_owned();
        if !names.insert(name.clone()) {
            continue;
        }
        let mut from = File::open(path)?;
        let large = from.metadata()?.len() > u64::from(u32::MAX);
        zip.start_file(name, options.large_file(large))?;
        std::io::copy(&mut from, &mut zip)?;
    }
    for (name, bytes) in more {
        zip.start_file(*name, options)?;
        zip.write_all(bytes)?;
    }
    zip.finish()?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Read;

    #[test]
    fn what_goes_in_comes_out() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("b")).unwrap();
        let files = [folder.path().join("a.jpg"), folder.path().join("b/ä.png")];
        std::fs::write(&files[0], b"one").unwrap();
        std::fs::write(&files[1], vec![7u8; 100_000]).unwrap();
        let twice = [files[0].clone(), files[1].clone(), files[0].clone()];
        let mut zip = zip::ZipArchive::new(write(&twice, folder.path()).unwrap()).unwrap();
        assert_eq!(zip.file_names().collect::<Vec<_>>(), ["a.jpg", "b/ä.png"]);
        let mut bytes = Vec::new();
        zip.by_name("b/ä.png").unwrap().read_to_end(&mut bytes).unwrap();
        assert_eq!(bytes, vec![7u8; 100_000]);
        // Nothing with a name is left.
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 2);
    }
}
