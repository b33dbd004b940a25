//! Configuration that other programs read: what a host's files say, as facts with their places.
//!
//! Each reader makes of a value what the program that the file is for would make of it. What it
//! can't understand is kept, with its line; only a file that is broken as a whole is refused.

mod around;
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

pub use around::{Around, File};

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use tarvek_core::facts::configured::{Configuration, IdOf};
use tarvek_core::facts::host::Document;
use tarvek_core::words::name::Name;

use self::collect::Collect;
use self::recognise::Format;
use crate::guard::guarded;
use crate::mistake::Refused;

/// Reads the files of one host, each in its format; also those that are broken as a whole.
pub fn read(files: &[(Format, File)], around: &Around) -> (Configuration, Vec<Refused>) {
    let mut out = Collect::default();
    let mut refused = Vec::new();
    // A reader that fails takes nothing from the others.
    let mut each =
        |name: &Name, read: &mut dyn FnMut(&mut Collect) -> Vec<Refused>| {
            let outcome = guarded(|| read(&mut out));
            refused.extend(outcome.unwrap_or_else(|panicked| {
                vec![Refused::by_a_fault(name.raw(), &panicked.message)]
            }));
        };
    let of =
        |format: Format| files.iter().filter(move |(known, _)| *known == format).map(|(_, f)| f);
    for project in projects(of(Format::Compose)) {
        each(&project[0].name, &mut |out| compose::read(&project, around, out));
    }
    let quadlets: Vec<File> = of(Format::Quadlet).cloned().collect();
    let mut together = |format, read: &mut dyn FnMut(&mut Collect)| {
        if let Some(first) = of(format).next() {
            each(&first.name, &mut |out| {
                read(out);
                Vec::new()
            });
        }
    };
    together(Format::Quadlet, &mut |out| quadlet::read(&quadlets, around, out));
    together(Format::Unit, &mut |out| {
        let mut units = units::Units::default();
        of(Format::Unit).for_each(|file| units.take(&file.name, &file.text, out));
        units.tell(out);
    });
    let named = |format| of(format).map(|f| (f.name.clone(), f.text.clone())).collect::<Vec<_>>();
    let people = if of(Format::Passwd).next().is_some() { Format::Passwd } else { Format::Group };
    together(people, &mut |out| {
        people::read(&named(Format::Passwd), &named(Format::Group), out);
    });
    together(Format::Datasets, &mut |out| {
        let mut datasets = datasets::Datasets::default();
        of(Format::Datasets).for_each(|file| datasets.take(&file.name, &file.text, out));
        datasets.tell(out);
    });
    type Read = fn(&File, &Around, &mut Collect);
    let alone: [(Format, Read); 12] = [
        (Format::Lxc, lxc::read),
        (Format::Fstab, |file, _, out| table::fstab(&file.name, &file.bytes, out)),
        (Format::Mounts, |file, _, out| table::mounts(&file.name, &file.bytes, out)),
        (Format::Mountinfo, |file, _, out| table::mountinfo(&file.name, &file.bytes, out)),
        (Format::Exports, |file, _, out| exports::read(&file.name, &file.text, out)),
        (Format::Folders, |file, _, out| folders::read(&file.name, &file.text, out)),
        (Format::Drives, |file, _, out| clients::net_use(&file.name, &file.text, out)),
        (Format::Urls, |file, _, out| clients::urls(&file.name, &file.text, out)),
        (Format::Printed, |file, _, out| table::printed(&file.name, &file.text, out)),
        (Format::Smb, smbconf::read),
        (Format::Subuid, |file, _, out| {
            people::subordinate(IdOf::Uid, &file.name, &file.text, out);
        }),
        (Format::Subgid, |file, _, out| {
            people::subordinate(IdOf::Gid, &file.name, &file.text, out);
        }),
    ];
    for (format, read) in alone {
        for file in of(format) {
            each(&file.name, &mut |out| {
                read(file, around, out);
                Vec::new()
            });
        }
    }
    (out.found, refused)
}

/// Reads what a survey keeps of a host's configuration: exports, what the SMB server says of its
/// own, and mount units.
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
