//! A file of configuration, and what lies around it.

use std::path::{Component, Path, PathBuf};

use super::compose::volumes::has_drive;
use tarvek_core::words::name::Name;
use tarvek_core::words::terms::Label;

/// A file of a host.
#[derive(Clone, Debug)]
pub struct File {
    /// Absolute.
    pub path: PathBuf,
    /// What messages call it.
    pub name: Name,
    pub text: String,
    /// The same, byte for byte.
    pub bytes: Vec<u8>,
}

impl File {
    /// A file with what is in it.
    pub fn new(path: PathBuf, name: Name, bytes: Vec<u8>) -> Self {
        let text = String::from_utf8_lossy(&bytes).into_owned();
        Self { path, name, text, bytes }
    }
}

/// Where readers find what a file names but does not hold.
pub struct Around<'a> {
    /// Reads another file.
    pub read: &'a dyn Fn(&Path) -> Result<Vec<u8>, String>,
    /// The value of a variable of whoever asks.
    pub variable: &'a dyn Fn(&str) -> Option<String>,
}

/// A path that may start at a folder or at home.
pub(crate) fn absolute(folder: &Path, text: &str, around: &Around) -> String {
    if has_drive(text) || text.starts_with('\\') || text.starts_with('/') {
        return text.to_owned();
    }
    let from_home = text.strip_prefix('~').filter(|rest| rest.is_empty() || rest.starts_with('/'));
    let path = match (from_home, (around.variable)("HOME")) {
        (Some(rest), Some(home)) => PathBuf::from(home + rest),
        _ => folder.join(text),
    };
    let mut plain = PathBuf::new();
    for part in path.components() {
        match part {
            Component::ParentDir => {
                plain.pop();
            }
            Component::CurDir => {}
            part => plain.push(part),
        }
    }
    plain.to_string_lossy().into_owned()
}

/// Relabelling as engines write it.
pub(crate) fn label(text: &str) -> Option<Label> {
    match text {
        "z" | "shared" => Some(Label::Shared),
        "Z" | "private" => Some(Label::Private),
        _ => None,
    }
}
