//! The parts of a layout, each by what tells it from the others of its sort.
//!
//! Where a part stands in the file is another matter (`layout/address.rs`): a name lasts when lines
//! are added above it.

use std::fmt;
use std::str::FromStr;

use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::word::words;

/// A part of a layout.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Part {
    /// The whole: what lies in no other part is added here.
    Site,
    Host(Name),
    Dataset {
        host: Name,
        name: Name,
    },
    Account {
        host: Name,
        name: Name,
    },
    Group {
        host: Name,
        name: Name,
    },
    /// A folder with a declared owner, mode or rights.
    Folder {
        host: Name,
        path: Name,
    },
    Share(Name),
    /// What a share offers over SMB.
    SmbOffer(Name),
    /// What a share offers to a set of clients over NFS.
    Export {
        share: Name,
        clients: Name,
    },
    Mount {
        host: Name,
        at: Name,
    },
    Service(Name),
    /// What a service, or a host that is a system container, sees under a path.
    Mapping {
        of: MappedInto,
        to: Name,
    },
    /// A path that another service names, and what this one takes it for.
    Translation {
        service: Name,
        by: Name,
        from: Name,
    },
    Port {
        service: Name,
        port: Name,
    },
    Library {
        service: Name,
        name: Name,
    },
    Root {
        service: Name,
        library: Name,
        root: Name,
    },
    Intake(Name),
    IntakeSide {
        intake: Name,
        side: Side,
    },
    /// Severities and silences.
    Rules,
}

/// Into what something is mapped.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum MappedInto {
    Host(Name),
    Service(Name),
}

words! {
    /// A side of an intake.
    #[derive(PartialOrd, Ord)]
    pub enum Side {
        Fetch = "fetch",
        Sort = "sort",
    }
}

impl Part {
    /// A mapping of a service.
    pub fn mapping(service: &Name, to: &Name) -> Self {
        Self::Mapping { of: MappedInto::Service(service.clone()), to: to.clone() }
    }

    /// What a host mounts at a path.
    pub fn mount(host: &Name, at: &AbsPath) -> Self {
        Self::Mount { host: host.clone(), at: name_of(at) }
    }

    /// A folder of a host.
    pub fn folder(host: &Name, path: &AbsPath) -> Self {
        Self::Folder { host: host.clone(), path: name_of(path) }
    }

    /// What people call it in a list of reasons: `host.granary`, and by their paths what has one.
    pub fn short(&self) -> String {
        match self {
            Self::Host(name) => format!("host.{}", name.raw()),
            Self::Share(name) => format!("share.{}", name.raw()),
            Self::Service(name) => format!("service.{}", name.raw()),
            Self::Intake(name) => format!("intake.{}", name.raw()),
            Self::Dataset { name, .. } => name.raw().to_owned(),
            Self::Folder { path, .. } => path.to_string(),
            Self::Mount { at, .. } => at.to_string(),
            other => other.to_string(),
        }
    }

    /// What it is a part of.
    pub fn enclosing(&self) -> Option<Self> {
        Some(match self {
            Self::Site => return None,
            Self::Host(_)
            | Self::Folder { .. }
            | Self::Share(_)
            | Self::Mount { .. }
            | Self::Service(_)
            | Self::Intake(_)
            | Self::Rules => Self::Site,
            Self::Dataset { host, .. } | Self::Account { host, .. } | Self::Group { host, .. } => {
                Self::Host(host.clone())
            }
            Self::SmbOffer(share) | Self::Export { share, .. } => Self::Share(share.clone()),
            Self::Mapping { of: MappedInto::Host(host), .. } => Self::Host(host.clone()),
            Self::Mapping { of: MappedInto::Service(service), .. }
            | Self::Translation { service, .. }
            | Self::Port { service, .. }
            | Self::Library { service, .. } => Self::Service(service.clone()),
            Self::Root { service, library, .. } => {
                Self::Library { service: service.clone(), name: library.clone() }
            }
            Self::IntakeSide { intake, .. } => Self::Intake(intake.clone()),
        })
    }

    /// The same as a phrase in a sentence: `lantern's mapping to /media`.
    pub fn phrase(&self) -> String {
        match self {
            Self::Site => "the layout".to_owned(),
            Self::Host(name) => format!("host {name}"),
            Self::Dataset { host, name } => format!("dataset {name} of {host}"),
            Self::Account { host, name } => format!("account {name} of {host}"),
            Self::Group { host, name } => format!("group {name} of {host}"),
            Self::Folder { host, path } => format!("folder {path} of {host}"),
            Self::Share(name) => format!("share {name}"),
            Self::SmbOffer(share) => format!("the smb of share {share}"),
            Self::Export { share, clients } => {
                format!("client {clients} in the nfs of share {share}")
            }
            Self::Mount { host, at } => format!("{host}'s mount at {at}"),
            Self::Service(name) => format!("service {name}"),
            Self::Mapping { of: MappedInto::Host(name) | MappedInto::Service(name), to } => {
                format!("{name}'s mapping to {to}")
            }
            Self::Translation { service, by, from } => {
                format!("{service}'s translation of {by}'s {from}")
            }
            Self::Port { service, port } => format!("port {port} of {service}"),
            Self::Library { service, name } => format!("library {name} of {service}"),
            Self::Root { service, library, root } => {
                format!("root {root} of {service}'s library {library}")
            }
            Self::Intake(name) => format!("intake {name}"),
            Self::IntakeSide { intake, side } => format!("{} of intake {intake}", side.word()),
            Self::Rules => "rules".to_owned(),
        }
    }
}

fn name_of(path: &AbsPath) -> Name {
    String::from_utf8_lossy(path.as_bytes()).into_owned().into()
}

impl fmt::Display for Part {
    /// As `[adopted]` names it: words, of which those that have spaces stand in quotation marks.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let words: &[&str] = match self {
            Self::Site => &["site"],
            Self::Host(name) => &["host", name.raw()],
            Self::Dataset { host, name } => &["dataset", host.raw(), name.raw()],
            Self::Account { host, name } => &["account", host.raw(), name.raw()],
            Self::Group { host, name } => &["group", host.raw(), name.raw()],
            Self::Folder { host, path } => &["folder", host.raw(), path.raw()],
            Self::Share(name) => &["share", name.raw()],
            Self::SmbOffer(share) => &["share", share.raw(), "smb"],
            Self::Export { share, clients } => &["share", share.raw(), "nfs", clients.raw()],
            Self::Mount { host, at } => &["mount", host.raw(), at.raw()],
            Self::Service(name) => &["service", name.raw()],
            Self::Mapping { of: MappedInto::Host(of), to } => &["host", of.raw(), "map", to.raw()],
            Self::Mapping { of: MappedInto::Service(of), to } => {
                &["service", of.raw(), "map", to.raw()]
            }
            Self::Translation { service, by, from } => {
                &["service", service.raw(), "translate", by.raw(), from.raw()]
            }
            Self::Port { service, port } => &["service", service.raw(), "port", port.raw()],
            Self::Library { service, name } => &["service", service.raw(), "library", name.raw()],
            Self::Root { service, library, root } => {
                &["service", service.raw(), "library", library.raw(), "root", root.raw()]
            }
            Self::Intake(name) => &["intake", name.raw()],
            Self::IntakeSide { intake, side } => &["intake", intake.raw(), side.word()],
            Self::Rules => &["rules"],
        };
        for (n, word) in words.iter().enumerate() {
            f.write_str(if n == 0 { "" } else { " " })?;
            match word.is_empty() || word.starts_with('"') || word.contains(char::is_whitespace) {
                true => write!(f, "\"{}\"", word.replace('\\', "\\\\").replace('"', "\\\""))?,
                false => f.write_str(word)?,
            }
        }
        Ok(())
    }
}

/// Some text names no part of a layout.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NoPart;

impl FromStr for Part {
    type Err = NoPart;

    fn from_str(text: &str) -> Result<Self, NoPart> {
        let words = words_of(text).ok_or(NoPart)?;
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let name = |word: &str| Name::from(word);
        Ok(match words[..] {
            ["site"] => Self::Site,
            ["rules"] => Self::Rules,
            ["host", host] => Self::Host(host.into()),
            ["host", host, "map", to] => {
                Self::Mapping { of: MappedInto::Host(host.into()), to: name(to) }
            }
            ["dataset", host, of] => Self::Dataset { host: name(host), name: name(of) },
            ["account", host, of] => Self::Account { host: name(host), name: name(of) },
            ["group", host, of] => Self::Group { host: name(host), name: name(of) },
            ["folder", host, path] => Self::Folder { host: name(host), path: name(path) },
            ["mount", host, at] => Self::Mount { host: name(host), at: name(at) },
            ["share", share] => Self::Share(share.into()),
            ["share", share, "smb"] => Self::SmbOffer(share.into()),
            ["share", share, "nfs", clients] => {
                Self::Export { share: name(share), clients: name(clients) }
            }
            ["service", service] => Self::Service(service.into()),
            ["service", service, "map", to] => Self::mapping(&name(service), &name(to)),
            ["service", service, "port", port] => {
                Self::Port { service: name(service), port: name(port) }
            }
            ["service", service, "translate", by, from] => {
                Self::Translation { service: name(service), by: name(by), from: name(from) }
            }
            ["service", service, "library", of] => {
                Self::Library { service: name(service), name: name(of) }
            }
            ["service", service, "library", library, "root", root] => {
                Self::Root { service: name(service), library: name(library), root: name(root) }
            }
            ["intake", intake] => Self::Intake(intake.into()),
            ["intake", intake, "fetch"] => {
                Self::IntakeSide { intake: name(intake), side: Side::Fetch }
            }
            ["intake", intake, "sort"] => {
                Self::IntakeSide { intake: name(intake), side: Side::Sort }
            }
            _ => return Err(NoPart),
        })
    }
}

/// The words of a text, as [`Part`]'s `Display` writes them; `None` if a quotation mark is not
/// closed.
fn words_of(text: &str) -> Option<Vec<String>> {
    let mut words = Vec::new();
    let mut rest = text.trim_start();
    while !rest.is_empty() {
        let mut word = String::new();
        let Some(quoted) = rest.strip_prefix('"') else {
            let (one, after) = rest.split_once(char::is_whitespace).unwrap_or((rest, ""));
            words.push(one.to_owned());
            rest = after.trim_start();
            continue;
        };
        let mut characters = quoted.chars();
        loop {
            match characters.next()? {
                '"' => break,
                '\\' => word.push(characters.next()?),
                c => word.push(c),
            }
        }
        words.push(word);
        rest = characters.as_str();
        if !rest.is_empty() && !rest.starts_with(char::is_whitespace) {
            return None;
        }
        rest = rest.trim_start();
    }
    Some(words)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_names_no_part_is_refused() {
        for text in ["", "hos granary", "host", "share media ftp", "host \"granary", "host \"a\"b"]
        {
            assert_eq!(text.parse::<Part>(), Err(NoPart), "{text}");
        }
        let spaced = Part::mapping(&"lantern".into(), &"/media/Low Water".into());
        assert_eq!(spaced.to_string(), "service lantern map \"/media/Low Water\"");
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(a in ".*", b in "\\PC*", c in "[a-z \"\\\\]*") {
            let (a, b, c): (Name, Name, Name) = (a.into(), b.into(), c.into());
            let parts = [
                Part::Host(a.clone()),
                Part::Dataset { host: a.clone(), name: c.clone() },
                Part::SmbOffer(b.clone()),
                Part::Export { share: c.clone(), clients: a.clone() },
                Part::mapping(&a, &b),
                Part::Mapping { of: MappedInto::Host(b.clone()), to: c.clone() },
                Part::Translation { service: a.clone(), by: b.clone(), from: c.clone() },
                Part::Root { service: a, library: b, root: c.clone() },
                Part::IntakeSide { intake: c, side: Side::Sort },
            ];
            for part in parts {
                prop_assert_eq!(part.to_string().parse(), Ok(part));
            }
        }
    }
}
