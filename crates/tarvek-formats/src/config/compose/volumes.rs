//! Volumes of containers as engines write them in one line: `SOURCE:TARGET:MODE` (Compose
//! Specification, podman-run(1)).

use tarvek_core::words::terms::{Access, Label};

/// What stands in one line.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Short<'a> {
    /// Absent where the engine makes a folder of its own.
    pub(crate) source: Option<&'a str>,
    pub(crate) to: &'a str,
    pub(crate) modes: Modes,
}

/// What may stand behind the second colon.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Modes {
    pub(crate) access: Access,
    pub(crate) label: Option<Label>,
    pub(crate) propagation: Option<String>,
    pub(crate) idmap: bool,
    /// What says nothing about a path or its rights.
    pub(crate) other: Vec<String>,
}

impl Modes {
    /// From a list with commas.
    ///
    /// # Errors
    /// The word that is no mode.
    pub(crate) fn of(text: &str) -> Result<Self, String> {
        let mut modes = Self::default();
        for mode in text.split(',').map(str::trim).filter(|mode| !mode.is_empty()) {
            match mode {
                "ro" | "readonly" => modes.access = Access::ReadOnly,
                "rw" => modes.access = Access::ReadWrite,
                "z" => modes.label = Some(Label::Shared),
                "Z" => modes.label = Some(Label::Private),
                "shared" | "rshared" | "slave" | "rslave" | "private" | "rprivate"
                | "unbindable" | "runbindable" => modes.propagation = Some(mode.to_owned()),
                "idmap" => modes.idmap = true,
                "nocopy" | "copy" | "consistent" | "cached" | "delegated" | "U" | "O" | "bind"
                | "rbind" | "exec" | "noexec" | "dev" | "nodev" | "suid" | "nosuid" => {
                    modes.other.push(mode.to_owned());
                }
                _ if mode.starts_with("idmap=") => modes.idmap = true,
                _ => return Err(format!("{mode:?} is no mode of a volume")),
            }
        }
        Ok(modes)
    }
}

/// Whether a text begins with a drive, `C:\` or `C:/`.
pub(crate) fn has_drive(text: &str) -> bool {
    let bytes = text.as_bytes();
    bytes.len() > 2
        && bytes[0].is_ascii_alphabetic()
        && bytes[1] == b':'
        && matches!(bytes[2], b'\\' | b'/')
}

/// Where the part that ends at the next colon ends; the colon of a drive is none. `x:/a` is a
/// volume of one letter unless another path follows, as one does behind a folder of a drive.
fn part(text: &str) -> usize {
    let drive = has_drive(text)
        && (text.as_bytes()[2] == b'\\' || {
            let rest = &text[2..];
            rest.contains(":/") || rest.contains(":\\")
        });
    let skip = if drive { 2 } else { 0 };
    text[skip..].find(':').map_or(text.len(), |at| at + skip)
}

/// Takes a line apart.
///
/// # Errors
/// Why it is none.
pub(crate) fn short(text: &str) -> Result<Short<'_>, String> {
    let first = part(text);
    let Some(rest) = text[first..].strip_prefix(':') else {
        return match text {
            "" => Err("it is empty".into()),
            to => Ok(Short { source: None, to, modes: Modes::default() }),
        };
    };
    let second = part(rest);
    let (source, to) = (&text[..first], &rest[..second]);
    let modes = rest[second..].strip_prefix(':').unwrap_or_default();
    if source.is_empty() || to.is_empty() {
        return Err("a colon has nothing before or behind it".into());
    }
    if modes.contains(':') {
        return Err("it has more than three parts".into());
    }
    Ok(Short { source: Some(source), to, modes: Modes::of(modes)? })
}

/// Whether a source is a path, and no volume's name.
pub(crate) fn is_path(source: &str) -> bool {
    source.starts_with(['/', '.', '~', '\\']) || has_drive(source)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn drives_are_no_parts() {
        let parts =
            |text: &'static str| short(text).map(|s| (s.source, s.to, s.modes.access.word()));
        for (text, source, to, access) in [
            ("/a:/b", Some("/a"), "/b", "rw"),
            ("/b", None, "/b", "rw"),
            ("x:/b:ro,z", Some("x"), "/b", "ro"),
            ("x:/b", Some("x"), "/b", "rw"),
            ("C:\\media:/b:ro", Some("C:\\media"), "/b", "ro"),
            ("\\\\granary\\media:/b", Some("\\\\granary\\media"), "/b", "rw"),
            ("C:/a:D:\\b", Some("C:/a"), "D:\\b", "rw"),
            ("./x y:/b", Some("./x y"), "/b", "rw"),
        ] {
            assert_eq!(parts(text), Ok((source, to, access)), "{text}");
        }
        for text in ["", ":/b", "/a:", "/a:/b:ro:x", "/a:/b:quick"] {
            assert!(short(text).is_err(), "{text}");
        }
        let modes = short("/a:/b:Z,rslave,nocopy").unwrap().modes;
        assert_eq!(
            (modes.label, modes.propagation.as_deref()),
            (Some(Label::Private), Some("rslave"))
        );
    }
}
