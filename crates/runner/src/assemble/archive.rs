//! Sidecars and checksums beside archived pictures, and ZIP files.

use crate::assemble::finishing::{Around, Done, unreadable};
use crate::files::atomic_file::part_in;
use crate::files::zip;
use crate::library::scan;
use crate::render::fault::{Ended, Fault};
use rallo_job::{FailureKind, ItemState};
use rallo_media::{DescriptiveFields, FileSource, Made, content_hash};
use rallo_recipe::delivery::What;
use serde_json::json;
use sha2::{Digest, Sha256};
use std::fmt::Write as _;
use std::io::Read;
use std::path::{Path, PathBuf};

/// SHA-256 (FIPS 180-4) of a file, in hexadecimal.
pub(super) fn sha256(path: &Path) -> std::io::Result<String> {
    let mut file = std::fs::File::open(path)?;
    let mut hasher = Sha256::new();
    let mut piece = vec![0u8; 256 * 1024];
    loop {
        let n = file.read(&mut piece)?;
        if n == 0 {
            break;
        }
        hasher.update(&piece[..n]);
    }
    Ok(hasher.finalize().iter().fold(String::new(), |mut text, b| {
        let _ = write!(text, "{b:02x}");
        text
    }))
}

impl Around<'_> {
    /// Sidecars, the recipe and checksums of an archive.
    pub(super) fn archive(&self, delivery: usize) -> Result<Done, Fault> {
        let What::Archive(archive) = &self.recipe.deliveries[delivery].what else {
            return Err(Fault::new(FailureKind::Recipe, "this delivery is no archive"));
        };
        let files = self.files(delivery);
        let sums = PathBuf::from(&self.item.target);
        let folder = sums.parent().unwrap_or(Path::new("/")).to_owned();
        let mut paths: Vec<PathBuf> =
            files.iter().map(|(o, _)| o.path.clone()).filter(|p| p.exists()).collect();
        let mut outputs = Vec::new();
        if archive.sidecars {
            for path in paths.clone() {
                let source = FileSource::open(&path).map_err(Fault::from)?;
                let Some(made) = Made::find(source.bytes()) else { continue };
                let words = DescriptiveFields::read(source.bytes(), source.exif());
                let mut name = path.clone().into_os_string();
                name.push(".xmp");
                outputs.push(self.write(self.beside(name.into())?, made.xmp(&words).as_bytes())?);
            }
            let text = serde_json::to_string_pretty(&self.recipe.to_value()).unwrap_or_default() + "\n";
            outputs.push(self.write(self.beside(folder.join("recipe.json"))?, text.as_bytes())?);
            paths.extend(outputs.iter().map(|o| o.path.clone()));
        }
        if archive.checksums {
            let target = self.beside(sums.clone())?;
            let mut lines: std::collections::BTreeMap<String, String> = std::collections::BTreeMap::new();
            // What earlier runs put there stays in the list.
            for line in std::fs::read_to_string(&target).unwrap_or_default().lines() {
                if let Some((sum, name)) = line.split_once("  ").filter(|(_, n)| folder.join(n).exists()) {
                    lines.insert(name.into(), sum.into());
                }
            }
            for path in &paths {
                let sum = sha256(path).map_err(|e| unreadable(path, &e))?;
                let name = path.strip_prefix(&folder).unwrap_or(path);
                lines.insert(name.to_string_lossy().into_owned(), sum);
            }
            let text: String = lines.iter().map(|(name, sum)| format!("{sum}  {name}\n")).collect();
            outputs.push(self.write(target, text.as_bytes())?);
        }
        Ok(Done { ended: Ended { state: ItemState::Done, kind: None, reason: None, outputs }, mark: None })
    }

    /// A ZIP of a delivery's files, with a list of what is in it.
    pub(super) fn zip(&self, delivery: usize) -> Result<Done, Fault> {
        let files = self.files(delivery);
        let mut what = Vec::new();
        let mut paths = Vec::new();
        let result_paths: Vec<PathBuf> = files.iter().map(|(o, _)| o.path.clone()).collect();
        let base = scan::common_folder(result_paths.iter());
        for (output, item) in &files {
            let sum = sha256(&output.path).map_err(|e| unreadable(&output.path, &e))?;
            let name = output.path.strip_prefix(&base).unwrap_or(&output.path).to_string_lossy();
            let source = Path::new(&item.source).file_name().unwrap_or_default().to_string_lossy();
            what.push(json!({"name": name, "bytes": output.bytes, "sha256": sum, "width": output.width,
                "height": output.height, "made_of": source}));
            paths.push(output.path.clone());
        }
        if paths.is_empty() {
            return Err(Fault::new(FailureKind::Together, "there is no file to pack"));
        }
        let list = json!({"recipe": self.recipe.name, "files": what});
        let mark = content_hash(list.to_string().as_bytes());
        let existing = self.recipe.deliveries[delivery].target().existing;
        let Some((target, replace)) = self.place(&existing, &mark)? else {
            return Ok(Done { ended: self.there(), mark: Some(mark) });
        };
        let fault = |e: std::io::Error| Fault::writing(&target, &e);
        let part = part_in(target.parent().unwrap_or(Path::new("/"))).map_err(fault)?;
        let text = serde_json::to_string_pretty(&list).unwrap_or_default() + "\n";
        zip::pack(part.as_file(), &paths, &[("manifest.json", text.as_bytes())]).map_err(fault)?;
        part.as_file().sync_all().map_err(fault)?;
        let output = self.keep(part.into_temp_path(), &target, replace, Some(&mark))?;
        let ended = Ended { state: ItemState::Done, kind: None, reason: None, outputs: vec![output] };
        Ok(Done { ended, mark: Some(mark) })
    }
}
