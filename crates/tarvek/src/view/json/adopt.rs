//! The answer of `tarvek adopt`.

use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use tarvek_core::adopt::guess::Guess;
use tarvek_core::facts::configured::{
    Configuration, Configured, DatasetFact, ExportFact, Fact, Flaw, FolderFact, IdMapFact,
    MappingFact, MountFact, PortFact, ServiceFact, ShareFact, Skipped, SubordinateFact, VolumeFact,
};
use tarvek_core::words::name::Name;
use tarvek_core::words::offer::{NfsExport, SmbOffer};
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::secret;
use tarvek_core::words::spot::Spot;
use tarvek_core::words::terms::{Account, Group};

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
    /// What is wrong with how something is written: secrets that anybody can read, lines at which a
    /// program stops.
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
        /// Paths whose mounts are there before it starts.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        #[schemars(default)]
        waits_for: Vec<String>,
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
        /// Whether it is mounted with the ids of the service's namespace.
        #[serde(skip_serializing_if = "std::ops::Not::not")]
        #[schemars(default)]
        idmap: bool,
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
        /// `shared` or `private`.
        #[serde(skip_serializing_if = "Option::is_none")]
        label: Option<&'static str>,
    },
    Port {
        service: String,
        #[serde(skip_serializing_if = "Option::is_none")]
        host_ip: Option<String>,
        /// `null` where the engine picks one.
        published: Option<u16>,
        target: u16,
        /// How many ports of a range this is about, the named ones first; left out where it is one
        /// port. Ranges are a fact each port as long as there are not too many of them.
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
        /// Whether child datasets are exported with it.
        #[serde(skip_serializing_if = "std::ops::Not::not")]
        #[schemars(default)]
        crossmnt: bool,
        /// The client that was meant, where a space before the options gives them to everyone.
        #[serde(skip_serializing_if = "Option::is_none")]
        stray_space: Option<String>,
    },
    Share {
        name: String,
        path: String,
        guests: bool,
        /// Whether everyone is a guest, whatever name they connect with.
        #[serde(skip_serializing_if = "std::ops::Not::not")]
        #[schemars(default)]
        guest_only: bool,
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
        /// Permission bits that new files get in any case.
        #[serde(skip_serializing_if = "Option::is_none")]
        force_create_mode: Option<String>,
        /// Permission bits that new folders get in any case.
        #[serde(skip_serializing_if = "Option::is_none")]
        force_folder_mode: Option<String>,
        /// Whether deleted files are kept in a recycle folder.
        #[serde(skip_serializing_if = "std::ops::Not::not")]
        #[schemars(default)]
        recycle: bool,
        /// Which, below the share, if it is not `.recycle`.
        #[serde(skip_serializing_if = "Option::is_none")]
        recycle_folder: Option<String>,
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
        filesystem: String,
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
fn without_secrets(name: &Name) -> String {
    secret::hide(name.raw())
}

fn names(names: &[Name]) -> Vec<String> {
    names.iter().map(without_secrets).collect()
}

fn maybe(name: Option<&Name>) -> Option<String> {
    name.map(without_secrets)
}

fn options(options: &MountOptions) -> Vec<String> {
    options.iter().map(str::to_owned).collect()
}

impl From<&Fact> for Kind {
    /// Every field by its name: one that is added to a fact does not compile until it has its place
    /// here.
    fn from(fact: &Fact) -> Self {
        match fact {
            Fact::Service(ServiceFact {
                name,
                user,
                uid,
                gid,
                umask,
                groups,
                userns,
                network,
                image,
                waits_for,
                is_host,
            }) => Self::Service {
                service: without_secrets(name),
                user: maybe(user.as_ref()),
                uid: *uid,
                gid: *gid,
                umask: octal(*umask),
                network: maybe(network.as_ref()),
                image: maybe(image.as_ref()),
                waits_for: waits_for.iter().map(lossy).collect(),
                groups: names(groups),
                userns: maybe(userns.as_ref()),
                is_host: *is_host,
            },
            Fact::Mapping(MappingFact { service, from, to, access, label, propagation, idmap }) => {
                Self::Mapping {
                    service: without_secrets(service),
                    from: lossy(from),
                    from_bytes: exact(from),
                    to: lossy(to),
                    to_bytes: exact(to),
                    access: access.word(),
                    label: label.map(|label| label.word()),
                    propagation: propagation.clone(),
                    idmap: *idmap,
                }
            }
            Fact::Volume(VolumeFact {
                service,
                volume,
                to,
                access,
                source,
                filesystem,
                options,
                label,
            }) => Self::Volume {
                service: without_secrets(service),
                volume: maybe(volume.as_ref()),
                to: lossy(to),
                access: access.word(),
                driver_source: maybe(source.as_ref()),
                driver_type: maybe(filesystem.as_ref()),
                driver_options: options
                    .as_ref()
                    .filter(|options| !options.is_empty())
                    .map(ToString::to_string),
                label: label.map(|label| label.word()),
            },
            Fact::Port(PortFact { service, host_ip, published, target, more, transport }) => {
                Self::Port {
                    service: without_secrets(service),
                    host_ip: maybe(host_ip.as_ref()),
                    published: *published,
                    target: *target,
                    count: (*more > 0).then(|| u32::from(*more) + 1),
                    protocol: transport.word(),
                }
            }
            Fact::Mount(MountFact { source, at, filesystem, options, boot, mounted }) => {
                Self::Mount {
                    source: lossy(source),
                    source_bytes: exact(source),
                    at: lossy(at),
                    at_bytes: exact(at),
                    filesystem: without_secrets(filesystem),
                    options: self::options(options),
                    boot: *boot,
                    mounted: *mounted,
                }
            }
            Fact::Export(ExportFact { path, export, stray_space }) => {
                let NfsExport { clients, access, squash, anonuid, anongid, crossmnt, options } =
                    export;
                Self::Export {
                    path: lossy(path),
                    path_bytes: exact(path),
                    client: without_secrets(clients),
                    access: access.word(),
                    squash: squash.word(),
                    anonuid: *anonuid,
                    anongid: *anongid,
                    options: options.iter().map(|option| secret::hide(option)).collect(),
                    crossmnt: *crossmnt,
                    stray_space: maybe(stray_space.as_ref()),
                }
            }
            Fact::Share(fact) => Self::share(fact),
            Fact::Account(Account { name, uid, gid, groups }) => Self::Account {
                name: without_secrets(name),
                uid: *uid,
                gid: *gid,
                groups: names(groups),
            },
            Fact::Group(Group { name, gid }) => {
                Self::Group { name: without_secrets(name), gid: *gid }
            }
            Fact::Subordinate(SubordinateFact { of, account, first, count }) => Self::Subordinate {
                of: of.word(),
                account: without_secrets(account),
                first: *first,
                count: *count,
            },
            Fact::IdMap(IdMapFact { service, of, inside, outside, count }) => Self::Idmap {
                service: without_secrets(service),
                of: of.word(),
                inside: *inside,
                outside: *outside,
                count: *count,
            },
            Fact::Dataset(DatasetFact { name, at, filesystem, properties }) => Self::Dataset {
                name: without_secrets(name),
                at: at.as_ref().map(lossy),
                filesystem: without_secrets(filesystem),
                properties: properties
                    .iter()
                    .map(|(name, value)| (secret::hide(name), secret::hide(value)))
                    .collect(),
            },
            Fact::Folder(FolderFact { path, owner, group, mode, entries }) => Self::Folder {
                path: lossy(path),
                owner: without_secrets(owner),
                group: without_secrets(group),
                mode: format!("{mode:04o}"),
                entries: entries.clone(),
            },
        }
    }
}

impl Kind {
    fn share(fact: &ShareFact) -> Self {
        let ShareFact { name, path, offer } = fact;
        let SmbOffer {
            guests,
            guest_only,
            only,
            deny,
            writable,
            read,
            write,
            admins,
            force_user,
            force_group,
            create_mask,
            folder_mask,
            force_create_mode,
            force_folder_mode,
            recycle,
            recycle_folder,
        } = offer;
        Self::Share {
            name: without_secrets(name),
            path: lossy(path),
            guests: *guests,
            guest_only: *guest_only,
            read_only: !writable,
            valid_users: names(only),
            invalid_users: names(deny),
            read_list: names(read),
            write_list: names(write),
            admin_users: names(admins),
            force_user: maybe(force_user.as_ref()),
            force_group: maybe(force_group.as_ref()),
            create_mask: octal(*create_mask),
            directory_mask: octal(*folder_mask),
            force_create_mode: octal(*force_create_mode),
            force_folder_mode: octal(*force_folder_mode),
            recycle: *recycle,
            recycle_folder: maybe(recycle_folder.as_ref()),
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
