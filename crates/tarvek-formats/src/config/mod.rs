//! Configuration that other programs read: what a host's files say, as facts with their places.
//!
//! Each reader makes of a value what the program that the file is for would make of it. What it can't understand is kept, with its
//! line; only a file that is broken as a whole is refused.

mod clients;
pub(crate) mod collect;
pub(crate) mod compose;
mod datasets;
mod dotenv;
mod exports;
mod folders;
mod ini;
mod lxc;
mod people;
mod quadlet;
pub mod recognise;
mod smbconf;
mod table;
mod units;
mod yaml;

use std::collections::BTreeMap;
use std::path::{Component, Path, PathBuf};

use tarvek_core::facts::configured::{Configuration, IdOf};
use tarvek_core::facts::host::Document;
use tarvek_core::words::name::Name;
use tarvek_core::words::terms::Label;

use self::collect::Collect;
use self::compose::volumes::has_drive;
use self::recognise::Format;
use crate::mistake::Refused;

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

/// Reads the files of one host, each in its format; also those that are broken as a whole.
pub fn read(files: &[(Format, File)], around: &Around) -> (Configuration, Vec<Refused>) {
    let mut out = Collect::default();
    let mut refused = Vec::new();
    let of =
        |format: Format| files.iter().filter(move |(known, _)| *known == format).map(|(_, f)| f);
    for project in projects(of(Format::Compose)) {
        refused.extend(compose::read(&project, around, &mut out));
    }
    let units: Vec<File> = of(Format::Quadlet).cloned().collect();
    quadlet::read(&units, around, &mut out);
    for file in of(Format::Lxc) {
        lxc::read(file, around, &mut out);
    }
    let mut units = units::Units::default();
    for file in of(Format::Unit) {
        units.take(&file.name, &file.text, &mut out);
    }
    units.tell(&mut out);
    type Table = fn(&Name, &[u8], &mut Collect);
    let tables: [(Format, Table); 3] = [
        (Format::Fstab, table::fstab),
        (Format::Mounts, table::mounts),
        (Format::Mountinfo, table::mountinfo),
    ];
    for (format, read) in tables {
        of(format).for_each(|file| read(&file.name, &file.bytes, &mut out));
    }
    type Text = fn(&Name, &str, &mut Collect);
    let texts: [(Format, Text); 4] = [
        (Format::Exports, exports::read),
        (Format::Folders, folders::read),
        (Format::Drives, clients::net_use),
        (Format::Urls, clients::urls),
    ];
    for (format, read) in texts {
        of(format).for_each(|file| read(&file.name, &file.text, &mut out));
    }
    of(Format::Printed).for_each(|file| table::printed(&file.name, &file.text, &mut out));
    of(Format::Smb).for_each(|file| smbconf::read(file, around, &mut out));
    let named = |format| of(format).map(|f| (f.name.clone(), f.text.clone())).collect::<Vec<_>>();
    people::read(&named(Format::Passwd), &named(Format::Group), &mut out);
    for (format, ids) in [(Format::Subuid, IdOf::Uid), (Format::Subgid, IdOf::Gid)] {
        of(format).for_each(|file| people::subordinate(ids, &file.name, &file.text, &mut out));
    }
    let mut datasets = datasets::Datasets::default();
    of(Format::Datasets).for_each(|file| datasets.take(&file.name, &file.text, &mut out));
    datasets.tell(&mut out);
    (out.found, refused)
}

/// Reads what a survey keeps of a host's configuration: exports, what the SMB server says of its own, and mount units.
pub fn of_documents(documents: &[Document]) -> Configuration {
    let mut out = Collect::default();
    let around = Around { read: &|_| Err("a survey does not keep it".into()), variable: &|_| None };
    let mut units = units::Units::default();
    for document in documents {
        match document.name.raw() {
            "exports" => {
                for file in parts(&document.text) {
                    exports::read(&file.name, &file.text, &mut out);
                }
            }
            "units" => {
                for file in parts(&document.text) {
                    if recognise::recognise(&file.path, &file.text) == Some(Format::Unit) {
                        units.take(&file.name, &file.text, &mut out);
                    }
                }
            }
            "smb" => {
                let text = document.text.clone().into_bytes();
                let file = File::new(PathBuf::from("/smb.conf"), "smb.conf".into(), text);
                smbconf::read(&file, &around, &mut out);
            }
            _ => {}
        }
    }
    units.tell(&mut out);
    out.found
}

/// The files of a document, each under a comment with its path.
fn parts(text: &str) -> Vec<File> {
    let mut files: Vec<(&str, String)> = Vec::new();
    for line in text.lines() {
        match line.strip_prefix("# ").filter(|path| {
            path.starts_with("/etc/") || path.starts_with("/run/") || path.starts_with("/usr/")
        }) {
            Some(path) if !path.contains(' ') => files.push((path, String::new())),
            _ => {
                if files.is_empty() {
                    files.push(("exports", String::new()));
                }
                if let Some((_, text)) = files.last_mut() {
                    text.push_str(line);
                    text.push('\n');
                }
            }
        }
    }
    let file = |(path, text): (&str, String)| {
        File::new(PathBuf::from(path), path.into(), text.into_bytes())
    };
    files.into_iter().map(file).collect()
}

/// Compose files that belong together: those of one folder, in the order in which they are given.
fn projects<'a>(files: impl Iterator<Item = &'a File>) -> Vec<Vec<File>> {
    let mut projects: BTreeMap<PathBuf, Vec<File>> = BTreeMap::new();
    for file in files {
        let folder = file.path.parent().unwrap_or(Path::new("/")).to_owned();
        projects.entry(folder).or_default().push(file.clone());
    }
    projects.into_values().collect()
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
