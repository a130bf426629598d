//! The folders that may be read and written. Every path from outside is resolved, symbolic links included, and
//! checked against them.

use std::path::{Path, PathBuf};

/// Why a path was refused.
#[derive(Debug, thiserror::Error)]
pub enum Refused {
    /// It does not exist, or cannot be looked at.
    #[error("{0} {why}", why = cannot(.1))]
    Missing(PathBuf, std::io::Error),
    /// It lies outside.
    #[error("{0} lies outside the folders this program may use ({1})")]
    Outside(PathBuf, String),
}

/// What the system said, in plain words where it is the usual.
fn cannot(e: &std::io::Error) -> String {
    match e.kind() {
        std::io::ErrorKind::NotFound => "is not there (any more)".into(),
        std::io::ErrorKind::PermissionDenied => "cannot be opened: this program may not read it".into(),
        _ => format!("cannot be opened: {e}"),
    }
}

/// The allowed folders, resolved; and one of the program's own, where pictures lie that were brought to it.
#[derive(Clone, Debug)]
pub struct Roots(Vec<PathBuf>, Option<PathBuf>);

impl Roots {
    /// Resolves the folders named at the start.
    ///
    /// # Errors
    /// [`Refused::Missing`] for a folder that is not there.
    pub fn new(folders: &[PathBuf]) -> Result<Self, Refused> {
        let resolve = |f: &PathBuf| f.canonicalize().map_err(|e| Refused::Missing(f.clone(), e));
        Ok(Self(folders.iter().map(resolve).collect::<Result<_, _>>()?, None))
    }

    /// With a folder of the program's own, which nobody chooses and files of which may be opened.
    ///
    /// # Errors
    /// [`Refused::Missing`] when it is not there.
    pub fn with_own(self, folder: &Path) -> Result<Self, Refused> {
        let data_folder = folder.canonicalize().map_err(|e| Refused::Missing(folder.to_owned(), e))?;
        Ok(Self(self.0, Some(data_folder)))
    }

    /// The folders.
    pub fn folders(&self) -> &[PathBuf] {
        &self.0
    }

    /// A path as people know it: from the name of the allowed folder on.
    pub fn short(&self, path: &Path) -> String {
        let root = self.0.iter().find(|r| path.starts_with(r));
        let below = root.and_then(|r| path.strip_prefix(r.parent().unwrap_or(r)).ok());
        below.unwrap_or(path).display().to_string()
    }

    fn inside(&self, path: &Path) -> bool {
        self.0.iter().any(|root| path.starts_with(root))
    }

    /// Whether a path is one of the program's own folder.
    fn is_own(&self, path: &Path) -> bool {
        self.1.as_ref().is_some_and(|data_folder| path.starts_with(data_folder))
    }

    fn outside(&self, path: &Path) -> Refused {
        let folders: Vec<String> = self.0.iter().map(|r| r.display().to_string()).collect();
        Refused::Outside(path.to_owned(), folders.join(", "))
    }

    /// Resolves an existing path.
    ///
    /// # Errors
    /// [`Refused`] when it is missing or outside.
    pub fn existing(&self, path: &Path) -> Result<PathBuf, Refused> {
        let real = path.canonicalize().map_err(|e| match self.future(path) {
            // Of what lies outside it is not told whether it is there.
            Err(Refused::Outside(..)) if !self.is_own(path) => self.outside(path),
            _ => Refused::Missing(path.to_owned(), e),
        })?;
        if self.inside(&real) || self.is_own(&real) { Ok(real) } else { Err(self.outside(&real)) }
    }

    /// Checks a path that may not exist yet: its nearest existing parent must be inside, and no part may climb.
    ///
    /// # Errors
    /// [`Refused`] when it would lie outside.
    pub fn future(&self, path: &Path) -> Result<(), Refused> {
        let climbs = path.components().any(|c| matches!(c, std::path::Component::ParentDir));
        let Some(there) = path.ancestors().find(|p| p.exists()) else { return Err(self.outside(path)) };
        if climbs || !path.is_absolute() {
            return Err(self.outside(path));
        }
        let real = there.canonicalize().map_err(|e| Refused::Missing(there.to_owned(), e))?;
        if self.inside(&real) { Ok(()) } else { Err(self.outside(&real)) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_and_climbing_do_not_lead_out() {
        let inside = tempfile::tempdir().unwrap();
        let outside = tempfile::tempdir().unwrap();
        std::os::unix::fs::symlink(outside.path(), inside.path().join("link")).unwrap();
        let roots = Roots::new(&[inside.path().to_owned()]).unwrap();
        assert!(roots.existing(inside.path()).is_ok());
        assert!(roots.existing(&inside.path().join("link")).is_err());
        assert!(roots.existing(&inside.path().join("..")).is_err());
        let missing = roots.existing(&inside.path().join("nothing")).unwrap_err();
        assert!(matches!(missing, Refused::Missing(..)), "{missing}");
        for hidden in [
            outside.path().join("nothing"),
            inside.path().join("link/nothing"),
            inside.path().join("../nothing"),
        ] {
            let refused = roots.existing(&hidden).unwrap_err();
            assert!(matches!(refused, Refused::Outside(..)), "{refused}");
        }
        assert!(roots.future(&inside.path().join("new/folder")).is_ok());
        assert!(roots.future(&inside.path().join("link/new")).is_err());
        assert!(roots.future(&inside.path().join("new/../../x")).is_err());
        assert!(roots.future(Path::new("relative")).is_err());
        let name = inside.path().file_name().unwrap().to_string_lossy().into_owned();
        assert_eq!(roots.short(&inside.path().canonicalize().unwrap().join("a/b")), format!("{name}/a/b"));
    }
}
