//! The mount tree of a host, and what it mounts at boot.

use std::collections::HashMap;

use crate::kernel::subject::Subject;
use crate::words::name::Name;
use crate::words::options::MountOptions;
use crate::words::path::AbsPath;
use crate::words::terms::{Access, Protocol};

/// One line of a mount table (`proc_pid_mountinfo(5)`), unescaped.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MountEntry {
    pub id: u64,
    /// The id of the mount it sits on.
    pub parent: u64,
    /// `st_dev` of its files, as `(major, minor)`.
    pub device: (u32, u32),
    /// The folder of the filesystem that is attached, as bytes: not always a path (`//deleted`).
    pub root: Vec<u8>,
    /// Where it is attached.
    pub point: AbsPath,
    /// Options of this mount alone.
    pub options: MountOptions,
    /// Optional fields: propagation.
    pub propagation: Vec<String>,
    /// Filesystem type.
    pub filesystem: Name,
    /// Device, `server:/path`, `//server/share`, … as bytes.
    pub source: Vec<u8>,
    /// Options of the superblock, which every mount of it shares.
    pub super_options: MountOptions,
}

impl MountEntry {
    /// Read-only if its own *or* its superblock's options say so.
    pub fn access(&self) -> Access {
        let read_only = self.options.read_only() || self.super_options.read_only();
        if read_only { Access::ReadOnly } else { Access::ReadWrite }
    }

    /// Whether an option stands among its own or its superblock's.
    pub fn has(&self, option: &str) -> bool {
        self.options.has(option) || self.super_options.has(option)
    }

    /// Its network protocol, if the source is another machine.
    pub fn network(&self) -> Option<Protocol> {
        network_protocol(&self.filesystem)
    }

    /// Whether the folder it attaches was deleted since (the root field then ends in `//deleted`).
    pub fn source_deleted(&self) -> bool {
        self.root.ends_with(b"//deleted")
    }

    /// Whether a FUSE mount keeps whoever asks out: without `allow_other` only its mounter may use
    /// it, by uid and gid (mount.fuse(8); `fuse_allow_current_process` in the kernel).
    pub fn keeps_out(&self, subject: &Subject) -> bool {
        let id = |key| self.super_options.value(key).and_then(|value| value.parse::<u32>().ok());
        let mounter = (id("user_id") == Some(subject.uid)) && (id("group_id") == Some(subject.gid));
        self.is_fuse() && id("user_id").is_some() && !self.has("allow_other") && !mounter
    }

    fn is_fuse(&self) -> bool {
        let name = self.filesystem.raw();
        matches!(name, "fuse" | "fuseblk") || name.starts_with("fuse.")
    }

    /// Whether its program decides about access by itself, and the kernel looks at no mode: a FUSE
    /// mount without `default_permissions` (mount.fuse(8); `fuse_permission` in the kernel). Where
    /// only its mounter may use it, the program is that user, whom the modes are of.
    pub fn leaves_access_to_its_program(&self) -> bool {
        self.is_fuse() && self.has("allow_other") && !self.has("default_permissions")
    }

    /// Whether its filesystem keeps no owners and modes, so that they are those of the mount's
    /// options `uid`, `gid`, `umask`, `fmask` and `dmask` (mount(8), "Mount options for fat").
    pub fn has_owners_by_option(&self) -> bool {
        matches!(
            self.filesystem.raw(),
            "vfat" | "msdos" | "exfat" | "ntfs" | "ntfs3" | "hfs" | "fuseblk"
        ) && !self.has("permissions")
            && !self.has("acl")
    }

    /// The bits that folders and files lack there (`dmask` and `fmask`, or `umask` for both).
    pub fn masks(&self) -> (u16, u16) {
        let value = |key| self.super_options.value(key).or_else(|| self.options.value(key));
        let bits = |text: &str| u16::from_str_radix(text, 8).ok();
        let mask = |key| value(key).or_else(|| value("umask")).and_then(bits).unwrap_or(0o022);
        (mask("dmask"), mask("fmask"))
    }

    /// Its options and those of its superblock, as `mount -o` takes them, without these.
    pub fn options_but(&self, left_out: &[&str]) -> String {
        let key = |option: &str| option.split('=').next().unwrap_or_default().to_owned();
        let mut all: Vec<&str> = Vec::new();
        for option in self.options.iter().chain(self.super_options.iter()) {
            if !left_out.contains(&key(option).as_str()) && !all.contains(&option) {
                all.push(option);
            }
        }
        all.join(",")
    }

    /// Whether it is an automount point that has not been triggered.
    pub fn is_automount(&self) -> bool {
        self.filesystem == "autofs"
    }
}

/// The network protocol of a filesystem type, as mount tables and fstab name it.
pub fn network_protocol(filesystem: &Name) -> Option<Protocol> {
    match filesystem.raw() {
        "nfs" | "nfs4" => Some(Protocol::Nfs),
        "cifs" | "smb3" | "smbfs" => Some(Protocol::Smb),
        _ => None,
    }
}

/// Whether a filesystem shows the kernel's own state, and keeps nobody's files.
pub fn of_the_kernel(filesystem: &Name) -> bool {
    const OWN: [&str; 21] = [
        "autofs",
        "binfmt_misc",
        "bpf",
        "cgroup",
        "cgroup2",
        "configfs",
        "debugfs",
        "devpts",
        "devtmpfs",
        "efivarfs",
        "fusectl",
        "hugetlbfs",
        "mqueue",
        "nfsd",
        "nsfs",
        "proc",
        "pstore",
        "rpc_pipefs",
        "securityfs",
        "sysfs",
        "tracefs",
    ];
    OWN.contains(&filesystem.raw())
}

/// A host's mounts. Neither the longest prefix nor the order of the lines decides which one a path
/// is on; walking the tree of parents does, because a mount on a parent path hides mounts below
/// that the table still lists.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MountTable {
    entries: Vec<MountEntry>,
    /// Where each id stands; of several the first.
    ids: HashMap<u64, usize>,
    /// What is mounted on a mount at a path.
    children: HashMap<u64, HashMap<AbsPath, usize>>,
    devices: HashMap<(u32, u32), Vec<usize>>,
    /// The topmost mount at `/`.
    root: Option<usize>,
}

impl MountTable {
    /// The entry of that id.
    pub fn entry(&self, id: u64) -> Option<&MountEntry> {
        Some(&self.entries[*self.ids.get(&id)?])
    }

    /// The mount that is attached exactly there.
    pub fn mounted_at(&self, point: &AbsPath) -> Option<&MountEntry> {
        self.at(point).filter(|mount| mount.point == *point)
    }

    /// From the lines of a mount table.
    pub fn new(entries: Vec<MountEntry>) -> Self {
        let mut table = Self { entries, ..Self::default() };
        for (n, entry) in table.entries.iter().enumerate() {
            table.ids.entry(entry.id).or_insert(n);
            table.devices.entry(entry.device).or_default().push(n);
            if entry.id != entry.parent {
                let of_parent = table.children.entry(entry.parent).or_default();
                of_parent.entry(entry.point.clone()).or_insert(n);
            }
        }
        let bottom = |e: &&MountEntry| {
            e.point.is_root() && (e.parent == e.id || !table.ids.contains_key(&e.parent))
        };
        let bottom = table.entries.iter().find(bottom);
        let bottom = bottom.or_else(|| table.entries.iter().find(|e| e.point.is_root()));
        let top = bottom.map(|bottom| table.top(bottom, &AbsPath::root()).id);
        table.root = top.and_then(|id| table.ids.get(&id).copied());
        table
    }

    /// Gives what is mounted at a point options that are declared for it, in the place of those
    /// that have their names.
    pub(crate) fn remount(&mut self, point: &AbsPath, options: &MountOptions) {
        let Some(id) = self.mounted_at(point).map(|entry| entry.id) else { return };
        let wanted: Vec<&str> = options.iter().collect();
        for entry in self.entries.iter_mut().filter(|entry| entry.id == id) {
            entry.options = entry.options.with(&wanted);
            entry.super_options = entry.super_options.with(&wanted);
        }
    }

    /// All entries, hidden ones included, in the order of the table.
    pub fn entries(&self) -> &[MountEntry] {
        &self.entries
    }

    /// The same, for somebody whose root is on this mount, whatever else is mounted at `/`.
    pub fn rooted_at(mut self, id: u64) -> Self {
        self.root = self.ids.get(&id).copied().or(self.root);
        self
    }

    /// The mount at `/` where every path starts: the topmost, unless somebody's root is another.
    pub fn root(&self) -> Option<&MountEntry> {
        Some(&self.entries[self.root?])
    }

    /// The mount one steps onto when a walk on `current` arrives at `path`; `None` if the walk
    /// stays on it.
    pub fn step(&self, current: u64, path: &AbsPath) -> Option<&MountEntry> {
        let first = self.on(current, path)?;
        Some(self.top(first, path))
    }

    /// The mount a visible path is on.
    pub fn at(&self, path: &AbsPath) -> Option<&MountEntry> {
        let mut here = self.root()?;
        let mut point = AbsPath::root();
        for part in path.components() {
            point.push(part);
            here = self.step(here.id, &point).unwrap_or(here);
        }
        Some(here)
    }

    fn on(&self, parent: u64, path: &AbsPath) -> Option<&MountEntry> {
        Some(&self.entries[*self.children.get(&parent)?.get(path)?])
    }

    /// The top of the stack of mounts at one path. A table that loops ends where it began.
    fn top<'a>(&'a self, bottom: &'a MountEntry, path: &AbsPath) -> &'a MountEntry {
        let mut here = bottom;
        for _ in 0..self.entries.len() {
            match self.on(here.id, path) {
                Some(next) => here = next,
                None => break,
            }
        }
        here
    }

    /// What the mount at `id` shows at a path, in terms that every way to it shares: the device,
    /// and the path in its filesystem.
    pub fn in_filesystem(&self, id: u64, path: &AbsPath) -> Option<((u32, u32), AbsPath)> {
        let mount = self.entry(id)?;
        let root = AbsPath::new(&mount.root).ok()?;
        Some((mount.device, root.join(path.below(&mount.point)?)))
    }

    /// Whether the entry beneath a mount is the one that it shows: an entry that is bound to
    /// itself. Of mounts over one another the lowest counts, for its entry has the name.
    pub fn covers_itself(&self, mount: &MountEntry) -> bool {
        let mut lowest = mount;
        for _ in 0..self.entries.len() {
            match self.entry(lowest.parent).filter(|below| below.id != lowest.id) {
                Some(below) if below.point == mount.point => lowest = below,
                _ => break,
            }
        }
        let shown = self.in_filesystem(mount.id, &mount.point);
        shown.is_some() && shown == self.in_filesystem(lowest.parent, &mount.point)
    }

    /// The entries that mounts cover, as [`MountTable::in_filesystem`] names them, each with where
    /// it is mounted.
    pub fn covered(&self) -> impl Iterator<Item = (&AbsPath, ((u32, u32), AbsPath))> {
        self.entries.iter().filter_map(|mount| {
            let below = (mount.parent != mount.id).then_some(mount.parent)?;
            Some((&mount.point, self.in_filesystem(below, &mount.point)?))
        })
    }

    /// The host path from which a bind shows its folder, if the same filesystem is also visible
    /// from nearer its top.
    pub fn bind_source(&self, bind: &MountEntry) -> Option<AbsPath> {
        self.source_of(bind, &bind.point)
    }

    /// The host path of what a bind shows at one of its paths, if the same filesystem is also
    /// visible there from nearer its top, and nothing was mounted over it since.
    pub fn source_of(&self, bind: &MountEntry, path: &AbsPath) -> Option<AbsPath> {
        self.shows(bind, path, |e, shown| e.id != bind.id && shown != path)
    }

    /// Under which path this table shows what a mount, perhaps of another table, has at one of its
    /// paths: on a mount of the same filesystem that is visible there. The one that begins nearest
    /// the filesystem's top counts.
    pub fn shows(
        &self,
        mount: &MountEntry,
        path: &AbsPath,
        wanted: impl Fn(&MountEntry, &AbsPath) -> bool,
    ) -> Option<AbsPath> {
        if mount.source_deleted() {
            return None;
        }
        let root = AbsPath::new(&mount.root).ok()?.join(path.below(&mount.point)?);
        let same = self.devices.get(&mount.device).into_iter().flatten();
        same.map(|index| &self.entries[*index])
            .filter_map(|e| {
                let rest = root.below(&AbsPath::new(&e.root).ok()?)?.to_vec();
                let path = e.point.join(&rest);
                // Another mount may hide it there.
                let visible = self.at(&path).is_some_and(|at| at.id == e.id);
                (visible && wanted(e, &path)).then_some((e.root.len(), path))
            })
            .min_by_key(|(root_len, path)| (*root_len, path.as_bytes().len()))
            .map(|(_, path)| path)
    }
}

/// One line of `fstab(5)`, unescaped.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FstabEntry {
    /// What is mounted.
    pub source: Name,
    /// Where.
    pub point: AbsPath,
    /// Its type.
    pub filesystem: Name,
    pub options: MountOptions,
}

impl FstabEntry {
    /// Whether it is mounted at boot or on first use, not only when somebody asks for it.
    pub fn at_boot(&self) -> bool {
        !self.options.has("noauto") || self.options.has("x-systemd.automount")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(id: u64, parent: u64, minor: u32, root: &str, point: &str) -> MountEntry {
        MountEntry {
            id,
            parent,
            device: (8, minor),
            root: root.into(),
            point: AbsPath::new(point.as_bytes()).unwrap(),
            options: MountOptions::read("rw"),
            propagation: vec![],
            filesystem: "ext4".into(),
            source: b"/dev/disk".to_vec(),
            super_options: MountOptions::read("rw"),
        }
    }

    fn at(table: &MountTable, path: &str) -> u64 {
        table.at(&AbsPath::new(path.as_bytes()).unwrap()).unwrap().id
    }

    #[test]
    fn a_mount_on_a_parent_path_hides_those_below() {
        let table = MountTable::new(vec![
            entry(1, 0, 1, "/", "/"),
            entry(2, 1, 2, "/", "/loft/media"),
            entry(3, 1, 3, "/", "/loft"),
        ]);
        assert_eq!(at(&table, "/loft/media/x"), 3);
        assert_eq!(at(&table, "/loftx"), 1);
    }

    #[test]
    fn of_mounts_over_one_another_the_lowest_has_the_name() {
        let table = MountTable::new(vec![
            entry(1, 0, 1, "/", "/"),
            entry(2, 1, 2, "/", "/loft"),
            entry(3, 2, 2, "/", "/loft"),
            entry(4, 1, 1, "/attic", "/attic"),
            entry(5, 4, 1, "/attic", "/attic"),
            entry(6, 1, 1, "/attic", "/cellar"),
        ]);
        let itself = |id| table.covers_itself(table.entry(id).unwrap());
        assert_eq!([2, 3, 4, 5, 6].map(itself), [false, false, true, true, false]);
    }

    #[test]
    fn the_top_of_a_stack_counts_whatever_the_order_of_lines() {
        let table = MountTable::new(vec![
            entry(9, 5, 3, "/", "/loft"),
            entry(5, 1, 2, "/", "/loft"),
            entry(1, 0, 1, "/", "/"),
            entry(7, 9, 4, "/", "/loft/a"),
            entry(8, 5, 4, "/", "/loft/b"),
        ]);
        assert_eq!(at(&table, "/loft"), 9);
        assert_eq!(at(&table, "/loft/a/x"), 7);
        assert_eq!(at(&table, "/loft/b"), 9, "b is mounted below the hidden mount");
    }

    #[test]
    fn a_bind_leads_to_the_visible_source() {
        let table = MountTable::new(vec![
            entry(1, 0, 1, "/", "/"),
            entry(2, 1, 2, "/", "/loft"),
            entry(3, 1, 2, "/media/films", "/srv/films"),
        ]);
        let bind = &table.entries()[2];
        assert_eq!(table.bind_source(bind).unwrap().as_bytes(), b"/loft/media/films");
        assert_eq!(table.bind_source(&table.entries()[1]), None);
        let mut deleted = entry(4, 1, 2, "/old//deleted", "/x");
        deleted.options = MountOptions::read("ro");
        assert!(deleted.source_deleted());
        assert_eq!(deleted.access(), Access::ReadOnly);
    }
}
