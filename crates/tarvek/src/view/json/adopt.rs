//! The answer of `tarvek adopt`.

use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use tarvek_core::adopt::guess::Guess;
use tarvek_core::facts::configured::{Configuration, Configured, Fact, Flaw, Skipped};
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::secret;
use tarvek_core::words::spot::Spot;

use super::common::{exact, lossy};

/// The answer of `tarvek adopt`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/adopt/1")]
pub(crate) struct Adopt {
    /// `tarvek/adopt/1`.
    schema: &'static str,
    /// What the files say, fact by fact.
    facts: Vec<FactDoc>,
    /// Lines, or parts of them, that could not be understood.
    skipped: Vec<SkippedDoc>,
    /// What is wrong with how something is written: secrets that anybody can read, lines at which a program stops.
    flaws: Vec<FlawDoc>,
    /// What no file says, and was told from names and rights.
    guesses: Vec<GuessDoc>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct FactDoc {
    /// The host whose file it is.
    host: String,
    file: String,
    /// From 1.
    line: u32,
    #[serde(flatten)]
    fact: Kind,
}

#[derive(Debug, Serialize, JsonSchema)]
struct SkippedDoc {
    host: String,
    file: String,
    line: u32,
    /// The line, without secrets.
    text: String,
    why: String,
}

#[derive(Debug, Serialize, JsonSchema)]
struct FlawDoc {
    /// The rule that makes a finding of it.
    rule: &'static str,
    host: String,
    file: String,
    line: u32,
    message: String,
}

#[derive(Debug, Serialize, JsonSchema)]
struct GuessDoc {
    host: String,
    what: String,
    because: String,
    /// The line of the layout, where one was written.
    #[serde(skip_serializing_if = "Option::is_none")]
    line: Option<u32>,
}

#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
enum Kind {
    Service {
        service: String,
        #[serde(skip_serializing_if = "Option::is_none")]
        user: Option<String>,
        #[serde(skip_serializing_if = "Option::is_none")]
        uid: Option<u32>,
        #[serde(skip_serializing_if = "Option::is_none")]
        gid: Option<u32>,
        /// In octal digits.
        #[serde(skip_serializing_if = "Option::is_none")]
        umask: Option<String>,
        #[serde(skip_serializing_if = "Option::is_none")]
        network: Option<String>,
        #[serde(skip_serializing_if = "Option::is_none")]
        image: Option<String>,
        /// Further groups, where there are some.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        #[schemars(default)]
        groups: Vec<String>,
        /// How its user namespace is made.
        #[serde(skip_serializing_if = "Option::is_none")]
        userns: Option<String>,
        /// Whether it is a system container, which is a host of its own.
        #[serde(skip_serializing_if = "std::ops::Not::not")]
        #[schemars(default)]
        is_host: bool,
    },
    Mapping {
        service: String,
        from: String,
        #[serde(skip_serializing_if = "Option::is_none")]
        from_bytes: Option<String>,
        to: String,
        #[serde(skip_serializing_if = "Option::is_none")]
        to_bytes: Option<String>,
        /// `ro` or `rw`.
        access: &'static str,
        /// `shared` or `private`.
        #[serde(skip_serializing_if = "Option::is_none")]
        label: Option<&'static str>,
        #[serde(skip_serializing_if = "Option::is_none")]
        propagation: Option<String>,
    },
    Volume {
        service: String,
        /// `null` where it has no name.
        volume: Option<String>,
        to: String,
        access: &'static str,
        #[serde(skip_serializing_if = "Option::is_none")]
        driver_source: Option<String>,
        #[serde(skip_serializing_if = "Option::is_none")]
        driver_type: Option<String>,
        #[serde(skip_serializing_if = "Option::is_none")]
        driver_options: Option<String>,
    },
    Port {
        service: String,
        #[serde(skip_serializing_if = "Option::is_none")]
        host_ip: Option<String>,
        /// `null` where the engine picks one.
        published: Option<u16>,
        target: u16,
        /// How many ports of a range this is about, the named ones first; left out where it is one port. Ranges are a fact each port
        /// as long as there are not too many of them.
        #[serde(skip_serializing_if = "Option::is_none")]
        count: Option<u32>,
        protocol: &'static str,
    },
    Mount {
        source: String,
        #[serde(skip_serializing_if = "Option::is_none")]
        source_bytes: Option<String>,
        at: String,
        #[serde(skip_serializing_if = "Option::is_none")]
        at_bytes: Option<String>,
        #[serde(rename = "type")]
        filesystem: String,
        options: Vec<String>,
        /// Whether it would be mounted without anybody asking.
        boot: bool,
        /// Whether it is mounted, and not only meant to be.
        mounted: bool,
    },
    Export {
        path: String,
        #[serde(skip_serializing_if = "Option::is_none")]
        path_bytes: Option<String>,
        client: String,
        access: &'static str,
        /// `root`, `all` or `none`.
        squash: &'static str,
        #[serde(skip_serializing_if = "Option::is_none")]
        anonuid: Option<u32>,
        #[serde(skip_serializing_if = "Option::is_none")]
        anongid: Option<u32>,
        options: Vec<String>,
        /// The client that was meant, where a space before the options gives them to everyone.
        #[serde(skip_serializing_if = "Option::is_none")]
        stray_space: Option<String>,
    },
    Share {
        name: String,
        path: String,
        guests: bool,
        read_only: bool,
        valid_users: Vec<String>,
        invalid_users: Vec<String>,
        read_list: Vec<String>,
        write_list: Vec<String>,
        admin_users: Vec<String>,
        #[serde(skip_serializing_if = "Option::is_none")]
        force_user: Option<String>,
        #[serde(skip_serializing_if = "Option::is_none")]
        force_group: Option<String>,
        #[serde(skip_serializing_if = "Option::is_none")]
        create_mask: Option<String>,
        #[serde(skip_serializing_if = "Option::is_none")]
        directory_mask: Option<String>,
    },
    Account {
        name: String,
        uid: u32,
        /// `null` where it is not known.
        gid: Option<u32>,
        groups: Vec<String>,
    },
    Group {
        name: String,
        gid: u32,
    },
    Subordinate {
        /// `uid` or `gid`.
        of: &'static str,
        account: String,
        first: u32,
        count: u32,
    },
    Idmap {
        /// The container whose ids they are.
        service: String,
        of: &'static str,
        inside: u32,
        outside: u32,
        count: u32,
    },
    Dataset {
        name: String,
        /// `null` where it is mounted nowhere.
        at: Option<String>,
        properties: BTreeMap<String, String>,
    },
    Folder {
        path: String,
        owner: String,
        group: String,
        mode: String,
        entries: Vec<String>,
    },
}

fn octal(bits: Option<u16>) -> Option<String> {
    bits.map(|bits| format!("{bits:04o}"))
}

/// A name as the file has it; where somebody wrote a secret in its place, that is not told.
fn said(name: &Name) -> String {
    secret::hide(name.raw())
}

fn names(names: &[Name]) -> Vec<String> {
    names.iter().map(said).collect()
}

fn maybe(name: Option<&Name>) -> Option<String> {
    name.map(said)
}

fn options(options: &MountOptions) -> Vec<String> {
    options.iter().map(str::to_owned).collect()
}

impl From<&Fact> for Kind {
    fn from(fact: &Fact) -> Self {
        match fact {
            Fact::Service(f) => Self::Service {
                service: said(&f.name),
                user: maybe(f.user.as_ref()),
                uid: f.uid,
                gid: f.gid,
                umask: octal(f.umask),
                network: maybe(f.network.as_ref()),
                image: maybe(f.image.as_ref()),
                groups: names(&f.groups),
                userns: maybe(f.userns.as_ref()),
                is_host: f.is_host,
            },
            Fact::Mapping(f) => Self::Mapping {
                service: said(&f.service),
                from: lossy(&f.from),
                from_bytes: exact(&f.from),
                to: lossy(&f.to),
                to_bytes: exact(&f.to),
                access: f.access.word(),
                label: f.label.map(|label| label.word()),
                propagation: f.propagation.clone(),
            },
            Fact::Volume(f) => Self::Volume {
                service: said(&f.service),
                volume: maybe(f.volume.as_ref()),
                to: lossy(&f.to),
                access: f.access.word(),
                driver_source: maybe(f.source.as_ref()),
                driver_type: maybe(f.filesystem.as_ref()),
                driver_options: f
                    .options
                    .as_ref()
                    .filter(|o| !o.is_empty())
                    .map(ToString::to_string),
            },
            Fact::Port(f) => Self::Port {
                service: said(&f.service),
                host_ip: maybe(f.host_ip.as_ref()),
                published: f.published,
                target: f.target,
                count: (f.more > 0).then(|| u32::from(f.more) + 1),
                protocol: f.transport.word(),
            },
            Fact::Mount(f) => Self::Mount {
                source: lossy(&f.source),
                source_bytes: exact(&f.source),
                at: lossy(&f.at),
                at_bytes: exact(&f.at),
                filesystem: said(&f.filesystem),
                options: options(&f.options),
                boot: f.boot,
                mounted: f.mounted,
            },
            Fact::Export(f) => Self::Export {
                path: lossy(&f.path),
                path_bytes: exact(&f.path),
                client: said(&f.export.clients),
                access: f.export.access.word(),
                squash: f.export.squash.word(),
                anonuid: f.export.anonuid,
                anongid: f.export.anongid,
                options: f.export.options.iter().map(|option| secret::hide(option)).collect(),
                stray_space: maybe(f.stray_space.as_ref()),
            },
            Fact::Share(f) => Self::Share {
                name: said(&f.name),
                path: lossy(&f.path),
                guests: f.offer.guests,
                read_only: !f.offer.writable,
                valid_users: names(&f.offer.only),
                invalid_users: names(&f.offer.deny),
                read_list: names(&f.offer.read),
                write_list: names(&f.offer.write),
                admin_users: names(&f.offer.admins),
                force_user: maybe(f.offer.force_user.as_ref()),
                force_group: maybe(f.offer.force_group.as_ref()),
                create_mask: octal(f.offer.create_mask),
                directory_mask: octal(f.offer.folder_mask),
            },
            Fact::Account(f) => Self::Account {
                name: said(&f.name),
                uid: f.uid,
                gid: f.gid,
                groups: names(&f.groups),
            },
            Fact::Group(f) => Self::Group { name: said(&f.name), gid: f.gid },
            Fact::Subordinate(f) => Self::Subordinate {
                of: f.of.word(),
                account: said(&f.account),
                first: f.first,
                count: f.count,
            },
            Fact::IdMap(f) => Self::Idmap {
                service: said(&f.service),
                of: f.of.word(),
                inside: f.inside,
                outside: f.outside,
                count: f.count,
            },
            Fact::Dataset(f) => Self::Dataset {
                name: said(&f.name),
                at: f.at.as_ref().map(lossy),
                properties: f
                    .properties
                    .iter()
                    .map(|(name, value)| (secret::hide(name), secret::hide(value)))
                    .collect(),
            },
            Fact::Folder(f) => Self::Folder {
                path: lossy(&f.path),
                owner: said(&f.owner),
                group: said(&f.group),
                mode: format!("{:04o}", f.mode),
                entries: f.entries.clone(),
            },
        }
    }
}

/// Ports of ranges that are told one by one, in all.
const MOST_PORTS: u32 = 65_536;

impl Adopt {
    /// What was read of each host, and what was guessed.
    pub(crate) fn new(hosts: &[(Name, Configuration)], guesses: &[(Guess, Option<u32>)]) -> Self {
        let mut answer = Self {
            schema: "tarvek/adopt/1",
            facts: Vec::new(),
            skipped: Vec::new(),
            flaws: Vec::new(),
            guesses: Vec::new(),
        };
        // Ports that are told one by one; a file may publish millions.
        let mut singly = MOST_PORTS;
        for (name, configuration) in hosts {
            let host = || name.raw().to_owned();
            let file = |spot: &Spot| spot.file.raw().to_owned();
            for Configured { fact, spot } in &configuration.facts {
                let mut tell = |fact: &Fact| {
                    answer.facts.push(FactDoc {
                        host: host(),
                        file: file(spot),
                        line: spot.line,
                        fact: fact.into(),
                    });
                };
                match fact {
                    Fact::Port(range) if u32::from(range.more) < singly => {
                        singly -= u32::from(range.more);
                        range.each().for_each(|port| tell(&Fact::Port(port)));
                    }
                    fact => tell(fact),
                }
            }
            let skipped = |Skipped { spot, text, why }: &Skipped| SkippedDoc {
                host: host(),
                file: file(spot),
                line: spot.line,
                text: text.raw().to_owned(),
                why: why.clone(),
            };
            answer.skipped.extend(configuration.skipped.iter().map(skipped));
            let flaw = |(spot, flaw): &(Spot, Flaw)| FlawDoc {
                rule: flaw.rule(),
                host: host(),
                file: file(spot),
                line: spot.line,
                message: flaw.to_string(),
            };
            answer.flaws.extend(configuration.flaws.iter().map(flaw));
        }
        let guess = |(guess, line): &(Guess, Option<u32>)| GuessDoc {
            host: guess.host.raw().to_owned(),
            what: guess.what.clone(),
            because: guess.because.clone(),
            line: *line,
        };
        answer.guesses = guesses.iter().map(guess).collect();
        answer
    }
}
