//! What was observed on one host at one time: one type, whatever it was read from.

use std::collections::HashMap;

use crate::facts::host_report::{HostReport, Subvolume};
use crate::facts::media::Media;
use crate::facts::mounts::{FstabEntry, MountEntry, MountTable};
use crate::facts::tree::{NodeId, Tree};
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::secret;
use crate::words::terms::{Account, Group};

/// Where facts come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Source {
    /// This machine, now.
    Live,
    /// A file that was collected or surveyed before.
    File(String),
}

/// Everything known of one host.
#[derive(Clone, Debug)]
pub struct HostFacts {
    /// The host's own name.
    pub name: Name,
    pub source: Source,
    /// When they were taken, in seconds since 1970 UTC.
    pub taken: i64,
    /// The uid of the process that looked; 0 sees everything.
    pub taken_by: Option<u32>,
    /// Kernel name and release.
    pub kernel: Option<Name>,
    /// The mount table, if it could be read.
    pub mounts: Option<MountTable>,
    /// What is to be mounted at boot (`fstab(5)`).
    pub fstab: Vec<FstabEntry>,
    /// Accounts (`passwd(5)`), with the groups that list them.
    pub accounts: Vec<Account>,
    /// Groups (`group(5)`).
    pub groups: Vec<Group>,
    /// Configuration and state of the host as text, line by line and without secrets: exports, SMB
    /// configuration, units, datasets, sysctls, ports, …
    pub documents: Vec<Document>,
    /// What some of the documents say.
    pub told: HostReport,
    /// The places that were asked for.
    pub roots: Vec<Root>,
    /// Whether the look came to its end; one that was interrupted lacks things.
    pub complete: bool,
    /// Files and folders.
    pub tree: Tree,
    /// Digests (BLAKE3) of the contents of files, where somebody asked for them.
    pub digests: HashMap<NodeId, [u8; 32]>,
    /// What the headers of media files say, where somebody asked for them; `None` of those that
    /// can't be read.
    pub media: HashMap<NodeId, Option<Media>>,
    /// What could not be seen, and why.
    pub gaps: Vec<Gap>,
}

impl HostFacts {
    /// A host of which only files and folders are known.
    pub fn of_tree(name: impl Into<Name>, tree: Tree) -> Self {
        Self {
            name: name.into(),
            source: Source::Live,
            taken: 0,
            taken_by: None,
            kernel: None,
            mounts: None,
            fstab: Vec::new(),
            accounts: Vec::new(),
            groups: Vec::new(),
            documents: Vec::new(),
            told: HostReport::default(),
            roots: Vec::new(),
            complete: true,
            tree,
            digests: HashMap::new(),
            media: HashMap::new(),
            gaps: Vec::new(),
        }
    }

    /// Where the read-only Btrfs subvolume begins that a path on a mount lies in, as this host sees
    /// it; `None` if it lies in a writable one.
    pub fn read_only_subvolume(&self, mount: &MountEntry, path: &AbsPath) -> Option<AbsPath> {
        let table = self.mounts.as_ref().filter(|_| mount.filesystem == "btrfs")?;
        let (device, inside) = table.in_filesystem(mount.id, path)?;
        let of_filesystem = |subvolume: &&Subvolume| {
            let point = table.at(&subvolume.point);
            point.is_some_and(|point| point.device == device) && inside.within(&subvolume.path)
        };
        // A read-only one stands in both lists.
        let around = self.told.subvolumes.iter().filter(of_filesystem);
        let nearest = around.max_by_key(|s| (s.path.as_bytes().len(), s.read_only))?;
        let below = AbsPath::new(&mount.root)
            .ok()
            .and_then(|root| Some(mount.point.join(nearest.path.below(&root)?)));
        nearest.read_only.then(|| below.unwrap_or_else(|| mount.point.clone()))
    }

    /// The account of that number.
    pub fn account_of(&self, uid: u32) -> Option<&Account> {
        self.accounts.iter().find(|account| account.uid == uid)
    }
}

/// A place that was looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Root {
    pub path: AbsPath,
    /// Whether everything below was looked at, or only the names in it.
    pub deep: bool,
}

/// A text of a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Document {
    /// Which one: `exports`, `smb`, `sysctl`, …
    pub name: Name,
    /// Its lines, secrets hidden.
    pub text: String,
}

impl Document {
    /// Takes a text as it is on the host, and hides its secrets. Bytes that are no UTF-8 are
    /// replaced.
    pub fn new(name: impl Into<Name>, text: &[u8]) -> Self {
        let text = String::from_utf8_lossy(text);
        let hidden = secret::hide(&text);
        let lines: Vec<&str> = hidden.lines().collect();
        let end = if lines.is_empty() { "" } else { "\n" };
        Self { name: name.into(), text: lines.join("\n") + end }
    }
}

/// Something that could not be seen. It is counted and named, so that nothing unseen passes for
/// fine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gap {
    pub path: AbsPath,
    /// In a few words, with the error's name.
    pub why: Name,
}
