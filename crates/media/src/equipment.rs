//! Programs of others that some kinds of files are read and written by: what each is for, and whether it is here.

use std::env;
use std::path::Path;

/// A program that may be installed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Equipment {
    /// Its names; any one of them serves.
    pub programs: &'static [&'static str],
    /// Debian's package that brings it.
    pub package: &'static str,
    /// What is there only with it.
    pub with: &'static str,
    /// What works without it.
    pub without: &'static str,
}

/// Everything that is used where it is there.
pub const EQUIPMENT: [Equipment; 4] = [
    Equipment {
        programs: &["ffmpeg"],
        package: "ffmpeg",
        with: "Clips are made and taken apart",
        without: "Sequences are measured, evened and written as numbered frames.",
    },
    Equipment {
        programs: &["heif-dec", "heif-convert"],
        package: "libheif-examples",
        with: "HEIC and AVIF pictures are read",
        without: "AVIF is written all the same.",
    },
    Equipment {
        programs: &["cjxl"],
        package: "libjxl-tools",
        with: "JPEG XL pictures are written",
        without: "JPEG XL is read all the same.",
    },
    Equipment {
        programs: &["tiffcp"],
        package: "libtiff-tools",
        with: "Rare kinds of TIFF are read: fax, palettes, inks, old JPEG",
        without: "The TIFFs of cameras and of most programs are read and written.",
    },
];

impl Equipment {
    /// Whether one of its programs lies where programs are looked for.
    pub fn is_there(&self) -> bool {
        let path = env::var_os("PATH").unwrap_or_default();
        env::split_paths(&path).any(|folder| self.programs.iter().any(|p| is_program(&folder.join(p))))
    }
}

fn is_program(file: &Path) -> bool {
    use std::os::unix::fs::PermissionsExt;
    file.metadata().is_ok_and(|about| about.is_file() && about.permissions().mode() & 0o111 != 0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_program_is_there_where_one_of_its_names_is() {
        let of = |programs| Equipment { programs, ..EQUIPMENT[0] };
        assert!(of(&["no-such-program-of-thistlewick", "sh"]).is_there());
        assert!(!of(&["no-such-program-of-thistlewick"]).is_there());
    }
}
