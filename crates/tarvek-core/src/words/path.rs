//! Absolute paths as bytes.
//!
//! A path on a disk is a string of bytes other than NUL (`path_resolution(7)`); nothing here
//! assumes UTF-8. A path is turned into text only through [`crate::words::text::shown`].

use std::fmt;

/// Why a written path is not usable as an absolute one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PathFault {
    /// It is the empty string.
    Empty,
    /// It does not start with `/`.
    Relative,
    /// It has a `..` component, so that what it means depends on symlinks.
    DotDot,
    /// It has a NUL byte, which no kernel accepts.
    Nul,
}

impl fmt::Display for PathFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Empty => "is empty",
            Self::Relative => "is not absolute",
            Self::DotDot => "has a \"..\" component",
            Self::Nul => "has a NUL byte",
        })
    }
}

/// An absolute path without `.`, `..`, doubled or trailing slashes. The root is `/`.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct AbsPath(Vec<u8>);

impl AbsPath {
    /// The root folder.
    pub fn root() -> Self {
        Self(b"/".to_vec())
    }

    /// Reads a written path; `.` components and doubled slashes are dropped, as the kernel does.
    ///
    /// # Errors
    /// The fault that keeps it from being absolute.
    pub fn new(written: &[u8]) -> Result<Self, PathFault> {
        if written.is_empty() {
            return Err(PathFault::Empty);
        }
        if written.contains(&0) {
            return Err(PathFault::Nul);
        }
        if components(written).any(|part| part == b"..") {
            return Err(PathFault::DotDot);
        }
        if written[0] != b'/' {
            return Err(PathFault::Relative);
        }
        let mut path = Self::root();
        for part in components(written) {
            path.push(part);
        }
        Ok(path)
    }

    /// What a path comes to by its text alone: each `..` takes away the component before it, and at
    /// the root nothing.
    pub fn by_text(written: &[u8]) -> Self {
        let clean: Vec<u8> = written.iter().copied().filter(|b| *b != 0).collect();
        let mut parts: Vec<&[u8]> = Vec::new();
        for part in components(&clean) {
            match part {
                b".." => drop(parts.pop()),
                part => parts.push(part),
            }
        }
        parts.into_iter().fold(Self::root(), |path, part| path.child(part))
    }

    /// Whether a system keeps there what is its own (`hier(7)`), so that no media lies there; the root
    /// is part of it, and what is below the root is not because of that.
    pub fn is_of_the_system(&self) -> bool {
        const TOPS: [&[u8]; 13] = [
            b"bin", b"boot", b"dev", b"etc", b"lib", b"lib64", b"proc", b"run", b"sbin", b"sys",
            b"tmp", b"usr", b"var",
        ];
        self.components().next().is_none_or(|top| TOPS.contains(&top))
    }

    /// Reads a path as a client writes it: `M:\films` and `M:/films` become `/M:/films`, so that a
    /// drive letter is the first component, and so is the server of `\\server\share\films` with its
    /// two backslashes; any other path is read by [`AbsPath::new`].
    ///
    /// # Errors
    /// As [`AbsPath::new`].
    pub fn of_client(written: &[u8]) -> Result<Self, PathFault> {
        match written {
            [letter, b':', rest @ ..] if letter.is_ascii_alphabetic() => {
                let mut unix = vec![b'/', letter.to_ascii_uppercase(), b':', b'/'];
                unix.extend(rest.iter().map(|&b| if b == b'\\' { b'/' } else { b }));
                Self::new(&unix)
            }
            [b'\\', b'\\', rest @ ..] => {
                let rest: Vec<u8> =
                    rest.iter().map(|&b| if b == b'\\' { b'/' } else { b }).collect();
                let mut parts = components(&rest);
                let server = parts.next().ok_or(PathFault::Empty)?;
                let first = [b"/\\\\", server].concat();
                let whole = parts.fold(first, |path, part| [&path[..], b"/", part].concat());
                Self::new(&whole)
            }
            _ => Self::new(written),
        }
    }

    /// The path as a Windows client writes it, if it starts with a drive letter or a server.
    pub fn as_client_writes(&self) -> Option<Vec<u8>> {
        let mut parts = self.components();
        let first = parts.next()?;
        let drive = matches!(first, [letter, b':'] if letter.is_ascii_alphabetic());
        if !drive && !first.starts_with(b"\\\\") {
            return None;
        }
        Some(parts.fold(first.to_vec(), |path, part| [&path[..], b"\\", part].concat()))
    }

    /// The server and share, and what lies below, of a path that starts with a server:
    /// `//server/share/films` in the notation of mounts (`mount.cifs(8)`).
    pub fn as_smb_source(&self) -> Option<Vec<u8>> {
        let mut parts = self.components();
        let server = parts.next()?.strip_prefix(b"\\\\")?;
        Some(parts.fold([b"//", server].concat(), |path, part| [&path[..], b"/", part].concat()))
    }

    /// The bytes, starting with `/`.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// Whether this is `/`.
    pub fn is_root(&self) -> bool {
        self.0.len() == 1
    }

    /// The components below the root, in order.
    pub fn components(&self) -> impl DoubleEndedIterator<Item = &[u8]> {
        components(&self.0)
    }

    /// Appends one component. `part` must not be empty, `.`, `..`, nor contain `/`.
    pub fn push(&mut self, part: &[u8]) {
        debug_assert!(!part.is_empty() && !part.contains(&b'/'));
        if !self.is_root() {
            self.0.push(b'/');
        }
        self.0.extend_from_slice(part);
    }

    /// This path with one more component.
    pub fn child(&self, part: &[u8]) -> Self {
        let mut path = self.clone();
        path.push(part);
        path
    }

    /// The folder above; `/` has none.
    pub fn parent(&self) -> Option<Self> {
        if self.is_root() {
            return None;
        }
        let cut = self.0.iter().rposition(|&b| b == b'/').unwrap_or(0);
        Some(Self(self.0[..cut.max(1)].to_vec()))
    }

    /// The last component; `/` has none.
    pub fn name(&self) -> Option<&[u8]> {
        self.components().next_back()
    }

    /// What follows `base`, component-wise: `/media/x` below `/media` is `x`, `/mediax` is not
    /// below it.
    pub fn below(&self, base: &Self) -> Option<&[u8]> {
        if base.is_root() {
            return Some(&self.0[1..]);
        }
        let rest = self.0.strip_prefix(base.as_bytes())?;
        match rest {
            [] => Some(rest),
            [b'/', rest @ ..] => Some(rest),
            _ => None,
        }
    }

    /// Whether this is `base` or lies below it.
    pub fn within(&self, base: &Self) -> bool {
        self.below(base).is_some()
    }

    /// This path with a relative rest appended, as [`AbsPath::below`] returns it.
    pub fn join(&self, rest: &[u8]) -> Self {
        let mut path = self.clone();
        for part in components(rest) {
            path.push(part);
        }
        path
    }
}

impl From<&AbsPath> for AbsPath {
    fn from(path: &AbsPath) -> Self {
        path.clone()
    }
}

impl AsRef<[u8]> for AbsPath {
    fn as_ref(&self) -> &[u8] {
        &self.0
    }
}

impl fmt::Debug for AbsPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", crate::words::text::shown(&self.0))
    }
}

impl fmt::Display for AbsPath {
    /// Escaped, safe for a terminal; see [`crate::words::text::shown`]. A path of a Windows client
    /// as it is written there.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.as_client_writes() {
            Some(written) => {
                let parts: Vec<String> =
                    written.split(|&b| b == b'\\').map(crate::words::text::shown).collect();
                f.write_str(&parts.join("\\"))
            }
            None => f.write_str(&crate::words::text::shown(&self.0)),
        }
    }
}

/// Splits any path, absolute or not, into its components; empty ones and `.` are dropped.
pub fn components(path: &[u8]) -> impl DoubleEndedIterator<Item = &[u8]> {
    path.split(|&b| b == b'/').filter(|part| !part.is_empty() && *part != b".")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn abs(text: &str) -> AbsPath {
        AbsPath::new(text.as_bytes()).unwrap()
    }

    #[test]
    fn reads_paths_as_the_kernel_does() {
        for (written, expected) in [
            ("/", Ok("/")),
            ("//loft///media/", Ok("/loft/media")),
            ("/loft/./media", Ok("/loft/media")),
            ("loft", Err(PathFault::Relative)),
            ("", Err(PathFault::Empty)),
            ("/loft/../etc", Err(PathFault::DotDot)),
            ("/loft/..media", Ok("/loft/..media")),
            ("/a\0b", Err(PathFault::Nul)),
        ] {
            assert_eq!(AbsPath::new(written.as_bytes()), expected.map(abs), "{written:?}");
        }
    }

    #[test]
    fn a_prefix_counts_by_components() {
        for (path, base, rest) in [
            ("/media/x", "/media", Some("x")),
            ("/mediax", "/media", None),
            ("/media", "/media", Some("")),
            ("/media/x/y", "/", Some("media/x/y")),
            ("/", "/media", None),
        ] {
            assert_eq!(abs(path).below(&abs(base)), rest.map(str::as_bytes), "{path} below {base}");
        }
        assert_eq!(abs("/a").parent(), Some(AbsPath::root()));
        assert_eq!(abs("/a/b").join(b"c/d"), abs("/a/b/c/d"));
    }

    #[test]
    fn drive_letters_become_a_first_component() {
        assert_eq!(AbsPath::of_client(b"m:\\films\\x"), Ok(abs("/M:/films/x")));
        assert_eq!(AbsPath::of_client(b"M:"), Ok(abs("/M:")));
        let server = AbsPath::of_client(b"\\\\granary.lan\\media\\films").unwrap();
        assert_eq!(server.components().count(), 3);
        assert_eq!(server.as_smb_source().unwrap(), b"//granary.lan/media/films");
        for written in ["M:\\films\\x", "M:", "\\\\granary.lan\\media"] {
            let path = AbsPath::of_client(written.as_bytes()).unwrap();
            assert_eq!(path.to_string(), written);
            assert_eq!(path.as_client_writes().unwrap(), written.as_bytes());
        }
        assert_eq!(abs("/mnt/M:").to_string(), "/mnt/M:");
        assert_eq!(AbsPath::of_client(b"/mnt/x"), Ok(abs("/mnt/x")));
    }
}
