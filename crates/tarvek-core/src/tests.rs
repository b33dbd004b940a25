//! Small sites for the tests beside the code: one library, everything in order, to be broken in one
//! place.

mod generated;

use std::borrow::Cow;
use std::fmt::Write;

use crate::facts::build::{NewEntry, TreeBuilder};
use crate::facts::host::HostFacts;
use crate::facts::host_report::Property;
use crate::facts::mounts::{MountEntry, MountTable};
use crate::facts::tree::{Listing, Lookup, NodeId, Tree};
use crate::kernel::acl::{Acl, AclEntry, Tag};
use crate::kernel::entry::{EntryKind, Flags, Meta, Project};
use crate::kernel::nfs4::Nfs4Acl;
use crate::kernel::object::Object;
use crate::kernel::subject::Subject;
use crate::layout::folder::{Folder, Right};
use crate::layout::host::{Dataset, Host, HostRole};
use crate::layout::intake::{Fetch, InView, Intake, Sort, Want};
use crate::layout::mapping::{Declared, MapSource, Mapping};
use crate::layout::mount::{Mount, MountSource};
use crate::layout::service::{Library, RunAs, Service, ServiceRole};
use crate::layout::share::Share;
use crate::layout::site::Layout;
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::rules::registry;
use crate::site::join::Site;
use crate::used::used_path::used_paths;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::offer::{NfsExport, SmbOffer, Squash};
use crate::words::options::MountOptions;
use crate::words::path::AbsPath;
use crate::words::prefer::Prefer;
use crate::words::rule::Rule;
use crate::words::terms::{Access, Account, Group, Kind, Origin, Protocol};

/// A path that has to be absolute.
pub(crate) fn abs(path: &str) -> AbsPath {
    AbsPath::new(path.as_bytes()).unwrap()
}

/// An account and its group of the same number, in further groups.
pub(crate) fn account(name: &str, id: u32, groups: &[&str]) -> Account {
    let groups = groups.iter().copied().map(Name::from).collect();
    Account { name: name.into(), uid: id, gid: Some(id), groups }
}

/// A group.
pub(crate) fn group(name: &str, gid: u32) -> Group {
    Group { name: name.into(), gid }
}

/// A written path in line 7 of a layout.
pub(crate) fn declared(path: &str) -> Declared {
    let origin = Origin { line: 7, column: 1 };
    Declared { written: path.into(), path: AbsPath::new(path.as_bytes()), origin }
}

/// A folder of granary of which the layout says only who has which right.
pub(crate) fn folder(path: &str, rights: &[(&str, Right)]) -> Folder {
    Folder {
        host: "granary".into(),
        path: abs(path),
        owner: None,
        group: None,
        mode: None,
        rights: rights.iter().map(|(who, right)| ((*who).into(), *right)).collect(),
        purpose: None,
        origin: Origin { line: 8, column: 1 },
    }
}

/// A mapping of a host's folder.
pub(crate) fn mapping(from: &str, to: &str, access: Access) -> Mapping {
    Mapping {
        source: MapSource::Folder(declared(from)),
        to: declared(to),
        access,
        label: None,
        propagation: None,
        nested: None,
        idmap: false,
        origin: Origin { line: 7, column: 1 },
    }
}

/// A service with nothing but an account; it runs in a container.
pub(crate) fn service(name: &str, host: &str, role: ServiceRole, id: u32) -> Service {
    Service {
        name: name.into(),
        host: host.into(),
        roles: vec![role],
        runs_as: RunAs::Numbers(id, Some(id)),
        groups: Vec::new(),
        umask: None,
        waits_for: Vec::new(),
        userns: None,
        map: Some(Vec::new()),
        ports: Vec::new(),
        network: None,
        config: None,
        config_volume: None,
        translate: Vec::new(),
        backup: None,
        libraries: Vec::new(),
        origin: Origin { line: 5, column: 1 },
    }
}

/// A share of granary's media, offered over NFS to everyone, and over SMB.
pub(crate) fn share(name: &str, path: &str) -> Share {
    Share {
        name: name.into(),
        host: "granary".into(),
        path: abs(path),
        nfs: vec![NfsExport {
            clients: "*".into(),
            access: Access::ReadOnly,
            squash: Squash::Root,
            anonuid: None,
            anongid: None,
            crossmnt: false,
            options: Vec::new(),
        }],
        smb: Some(SmbOffer::default()),
        also: Vec::new(),
        origin: Origin { line: 3, column: 1 },
    }
}

/// A mount of a share.
pub(crate) fn mount(host: &str, share: &str, protocol: Protocol, at: &str) -> Mount {
    Mount {
        host: host.into(),
        from: MountSource::Share(share.into()),
        protocol,
        at: abs(at),
        options: MountOptions::read("ro,nofail"),
        user: None,
        credentials: None,
        removable: false,
        origin: Origin { line: 4, column: 1 },
    }
}

/// A mount table from lines `ID PARENT MAJOR:MINOR ROOT POINT TYPE SOURCE OPTIONS`.
pub(crate) fn mounts(lines: &str) -> MountTable {
    let entry = |line: &str| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let [id, parent, device, root, point, kind, source, options] = fields[..] else {
            panic!("{line}")
        };
        let (major, minor) = device.split_once(':').unwrap();
        MountEntry {
            id: id.parse().unwrap(),
            parent: parent.parse().unwrap(),
            device: (major.parse().unwrap(), minor.parse().unwrap()),
            root: root.into(),
            point: abs(point),
            options: MountOptions::read(options),
            propagation: Vec::new(),
            filesystem: kind.into(),
            source: source.into(),
            super_options: MountOptions::read(if options == "ro" { "rw" } else { options }),
        }
    };
    MountTable::new(lines.lines().filter(|l| !l.trim().is_empty()).map(entry).collect())
}

/// Changes a scene.
pub(crate) type Alter = fn(&mut Scene);

/// Holds what is shown of changed scenes to what is expected, all of them at once.
pub(crate) fn hold(scene: fn() -> Scene, show: fn(&Scene) -> String, cases: &[(Alter, &str)]) {
    let now = cases.iter().map(|(alter, _)| {
        let mut scene = scene();
        alter(&mut scene);
        show(&scene)
    });
    let now: Vec<String> = now.collect();
    let expected: Vec<&str> = cases.iter().map(|(_, expected)| *expected).collect();
    assert_eq!(now, expected, "{now:#?}");
}

#[derive(Clone)]
struct Line {
    path: AbsPath,
    entry: NewEntry,
}

#[derive(Clone)]
struct SceneHost {
    facts: HostFacts,
    lines: Vec<Line>,
    /// Folders that nobody looked into.
    unread: Vec<AbsPath>,
}

/// A site that can be broken.
#[derive(Clone)]
pub(crate) struct Scene {
    pub(crate) layout: Layout,
    seen: Vec<SceneHost>,
}

impl Scene {
    /// Storage host granary holds `/loft/media/films` with one film, all of mira's; lantern runs
    /// there too, sees the media as `/media`, and serves the library Films.
    pub(crate) fn local() -> Self {
        let granary = Host {
            name: "granary".into(),
            roles: vec![HostRole::Storage, HostRole::Apps],
            addresses: vec!["granary.lan".into()],
            accounts: vec![
                account("mira", 1101, &["keepers"]),
                account("lantern", 840, &[]),
                account("drover", 841, &["keepers"]),
                account("joiner", 842, &["keepers"]),
            ],
            groups: vec![group("keepers", 2100)],
            ..Host::default()
        };
        let mut lantern = service("lantern", "granary", ServiceRole::Serve, 840);
        lantern.map = Some(vec![mapping("/loft/media", "/media", Access::ReadOnly)]);
        lantern.libraries.push(Library {
            name: "Films".into(),
            kind: Kind::Films,
            roots: vec![declared("/media/films")],
            original: false,
            backup: None,
            prefer: Prefer::default(),
            origin: Origin { line: 6, column: 1 },
        });
        let layout = Layout {
            site: "Kestrel Hollow".into(),
            hosts: vec![granary],
            services: vec![lantern],
            ..Layout::default()
        };
        let mut scene = Self { layout, seen: Vec::new() };
        scene.tree(
            "granary",
            "d 0755 0:0 /loft/media
             d 2775 1101:2100 /loft/media/films
             d 2775 1101:2100 /loft/media/films/Low Water (2003)
             f 0664 1101:2100 /loft/media/films/Low Water (2003)/Low Water (2003).mkv",
        );
        let seen = scene.facts("granary");
        seen.accounts = vec![
            account("root", 0, &[]),
            account("mira", 1101, &["keepers"]),
            account("lantern", 840, &[]),
            account("drover", 841, &["keepers"]),
            account("joiner", 842, &["keepers"]),
        ];
        seen.groups = vec![group("root", 0), group("keepers", 2100)];
        scene
    }

    /// The same with lantern on a host of its own, millrace, that mounts granary's share.
    pub(crate) fn over(protocol: Protocol) -> Self {
        let mut scene = Self::local();
        scene.layout.hosts.push(Host {
            name: "millrace".into(),
            roles: vec![HostRole::Apps],
            addresses: vec!["millrace.lan".into(), "10.20.0.3".into()],
            accounts: vec![account("lantern", 840, &[])],
            ..Host::default()
        });
        let mut offered = share("media", "/loft/media");
        match protocol {
            Protocol::Smb => offered.nfs.clear(),
            _ => offered.smb = None,
        }
        scene.layout.shares.push(offered);
        let mut mount = mount("millrace", "media", protocol, "/mnt/media");
        mount.user = (protocol == Protocol::Smb).then(|| "lantern".into());
        if protocol == Protocol::Smb {
            mount.options = MountOptions::read("ro,nofail,uid=840");
        }
        scene.layout.mounts.push(mount);
        let lantern = scene.service("lantern");
        lantern.host = "millrace".into();
        lantern.map = Some(vec![mapping("/mnt/media", "/media", Access::ReadOnly)]);
        let (kind, source) = match protocol {
            Protocol::Smb => ("cifs", "//granary.lan/media"),
            _ => ("nfs4", "granary.lan:/loft/media"),
        };
        scene.tree("millrace", "d 0755 0:0 /mnt/media");
        let options = if protocol == Protocol::Smb { "ro,uid=840" } else { "ro" };
        scene.facts("millrace").mounts = Some(mounts(&format!(
            "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media {kind} {source} {options}"
        )));
        scene
    }

    /// Whose library lies in the dataset `loft/media`, of which properties are declared and others
    /// were seen.
    pub(crate) fn with_dataset(declared: &[(&str, &str)], seen: &[(&str, &str)]) -> Self {
        let mut scene = Self::local();
        let pair = |(name, value): &(&str, &str)| ((*name).to_owned(), (*value).to_owned());
        scene.host("granary").datasets.push(Dataset {
            name: "loft/media".into(),
            at: abs("/loft/media"),
            filesystem: Some("zfs".into()),
            quota: None,
            properties: declared.iter().map(pair).collect(),
            origin: Origin { line: 2, column: 1 },
        });
        let property = |(name, value): &(&str, &str)| Property {
            dataset: "loft/media".into(),
            name: (*name).to_owned(),
            value: (*value).into(),
        };
        scene.facts("granary").told.properties = seen.iter().map(property).collect();
        scene
    }

    /// With an intake: drover fetches into `/data/intake`, joiner files from there into the
    /// library.
    pub(crate) fn with_intake(mut self) -> Self {
        for (name, role, id) in
            [("drover", ServiceRole::Fetch, 841), ("joiner", ServiceRole::Sort, 842)]
        {
            let mut service = service(name, "granary", role, id);
            service.runs_as = RunAs::Numbers(id, Some(2100));
            service.umask = Some(0o002);
            service.map = Some(vec![mapping("/loft/media", "/data", Access::ReadWrite)]);
            self.layout.services.push(service);
        }
        self.layout.intakes.push(Intake {
            name: "films".into(),
            fetch: Some(Fetch {
                service: "drover".into(),
                partial: Some(InView::of(abs("/data/intake/partial"))),
                done: InView::of(abs("/data/intake/done")),
                category: None,
            }),
            sort: Some(Sort {
                service: "joiner".into(),
                reads: InView::of(abs("/data/intake/done")),
                files_into: InView::of(abs("/data/films")),
                category: None,
            }),
            want: Want::Hardlink,
            origin: Origin { line: 9, column: 1 },
        });
        self.tree(
            "granary",
            "d 2770 841:2100 /loft/media/intake
             d 2770 841:2100 /loft/media/intake/partial
             d 2770 841:2100 /loft/media/intake/done",
        );
        let facts = self.facts("granary");
        let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft xfs /dev/sdb1 rw";
        facts.mounts.get_or_insert_with(|| mounts(table));
        self
    }

    /// joiner sees intake and library by a mapping each, and drover the intake alone, under the
    /// same paths.
    pub(crate) fn two_mappings(&mut self) -> &mut Self {
        let line = |line: u32| Origin { line, column: 1 };
        let map = |n: u32, from: &str, to: &str| {
            let mut map = mapping(from, to, Access::ReadWrite);
            map.origin = line(n);
            map.to.origin = line(n);
            if let MapSource::Folder(from) = &mut map.source {
                from.origin = line(n);
            }
            map
        };
        let intake = |n| map(n, "/loft/media/intake", "/downloads");
        self.service("drover").map = Some(vec![intake(11)]);
        let films = map(22, "/loft/media/films", "/media/films");
        self.service("joiner").map = Some(vec![intake(21), films]);
        let way = &mut self.layout.intakes[0];
        let at = |n: u32, path: &str| InView { path: abs(path), origin: line(n) };
        let fetch = way.fetch.as_mut().unwrap();
        fetch.partial = Some(at(31, "/downloads/partial"));
        fetch.done = at(31, "/downloads/done");
        let sort = way.sort.as_mut().unwrap();
        (sort.reads, sort.files_into) = (at(32, "/downloads/done"), at(32, "/media/films"));
        self
    }

    /// Gives an entry a project.
    pub(crate) fn project(&mut self, host: &str, path: &str, project: Project) -> &mut Self {
        self.entry(host, path).extras.project = Some(project);
        self
    }

    /// Adds or replaces entries: `TYPE MODE UID:GID PATH`, a type of `d`, `f`, `l` (and ` ->
    /// TARGET` behind the path) or `p`.
    pub(crate) fn tree(&mut self, host: &str, lines: &str) -> &mut Self {
        for text in lines.lines().map(str::trim).filter(|line| !line.is_empty()) {
            let mut fields = text.splitn(4, ' ');
            let mut next = || fields.next().unwrap_or_else(|| panic!("{text}"));
            let kind = match next() {
                "d" => EntryKind::Folder,
                "f" => EntryKind::File,
                "l" => EntryKind::Symlink,
                _ => EntryKind::Fifo,
            };
            let mode = u16::from_str_radix(next(), 8).unwrap();
            let (uid, gid) = next().split_once(':').unwrap();
            let meta = Meta::new(kind, mode, uid.parse().unwrap(), gid.parse().unwrap());
            let (path, target) = match next().split_once(" -> ") {
                Some((path, target)) => (path, Some(target.as_bytes().to_vec())),
                None => (text.splitn(4, ' ').nth(3).unwrap(), None),
            };
            let path = abs(path);
            self.parents(host, &path);
            let name = path.name().unwrap_or_default();
            let entry = NewEntry { target, ..NewEntry::plain(name, meta) };
            self.put(host, Line { path, entry });
        }
        self
    }

    /// Adds a file whose name is bytes, into a folder that is there.
    pub(crate) fn file_of_bytes(&mut self, host: &str, folder: &str, name: &[u8]) -> &mut Self {
        let meta = Meta::new(EntryKind::File, 0o644, 0, 0);
        let path = abs(folder).child(name);
        self.put(host, Line { path, entry: NewEntry::plain(name, meta) });
        self
    }

    fn parents(&mut self, host: &str, path: &AbsPath) {
        let Some(parent) = path.parent().filter(|parent| !parent.is_root()) else { return };
        if !self.seen(host).lines.iter().any(|line| line.path == parent) {
            self.parents(host, &parent);
            let meta = Meta::new(EntryKind::Folder, 0o755, 0, 0);
            let entry = NewEntry::plain(parent.name().unwrap_or_default(), meta);
            self.put(host, Line { path: parent, entry });
        }
    }

    fn put(&mut self, host: &str, line: Line) {
        let lines = &mut self.seen(host).lines;
        lines.retain(|known| known.path != line.path);
        lines.push(line);
    }

    fn entry(&mut self, host: &str, path: &str) -> &mut NewEntry {
        let path = abs(path);
        let line = self.seen(host).lines.iter_mut().find(|line| line.path == path);
        &mut line.unwrap_or_else(|| panic!("{path}")).entry
    }

    /// Changes what is known of an entry.
    pub(crate) fn change(
        &mut self,
        host: &str,
        path: &str,
        change: impl Fn(&mut Meta),
    ) -> &mut Self {
        let entry = self.entry(host, path);
        change(&mut entry.meta);
        // As a kernel does, of which mode and ACL are one.
        if let Some(acl) = entry.extras.acl.take() {
            let mut object = Object { acl: Some(Cow::Owned(acl)), ..Object::plain(entry.meta) };
            object.set_mode(entry.meta.mode);
            entry.extras.acl = object.acl.map(Cow::into_owned);
        }
        self
    }

    /// Sets inode flags, as the letters of `chattr(1)`.
    pub(crate) fn flags(&mut self, host: &str, path: &str, letters: &str) -> &mut Self {
        let (immutable, append) = (letters.contains('i'), letters.contains('a'));
        self.change(host, path, |meta| meta.flags = Some(Flags { immutable, append }))
    }

    /// Gives an entry an access ACL; its mode then says the same, as a kernel keeps it.
    pub(crate) fn acl(&mut self, host: &str, path: &str, acl: Acl) -> &mut Self {
        let entry = self.entry(host, path);
        let mut object = Object::plain(entry.meta);
        object.set_acl(acl);
        entry.meta = object.meta;
        entry.extras.acl = object.acl.map(Cow::into_owned);
        self
    }

    /// Gives a folder a default ACL.
    pub(crate) fn default_acl(&mut self, host: &str, path: &str, acl: Acl) -> &mut Self {
        self.entry(host, path).extras.default_acl = Some(acl);
        self
    }

    /// Gives an entry an NFSv4 ACL.
    pub(crate) fn nfs4(&mut self, host: &str, path: &str, acl: Nfs4Acl) -> &mut Self {
        self.entry(host, path).extras.nfs4_acl = Some(acl);
        self
    }

    /// The paths of what was put on a host.
    pub(crate) fn paths(&mut self, host: &str) -> Vec<String> {
        self.seen(host).lines.iter().map(|line| line.path.to_string()).collect()
    }

    /// Takes away an entry and everything below it.
    pub(crate) fn without(&mut self, host: &str, path: &str) -> &mut Self {
        self.without_path(host, &abs(path))
    }

    /// The same by bytes.
    pub(crate) fn without_path(&mut self, host: &str, path: &AbsPath) -> &mut Self {
        self.seen(host).lines.retain(|line| !line.path.within(path));
        self
    }

    /// Nobody looked into a folder.
    pub(crate) fn unread(&mut self, host: &str, path: &str) -> &mut Self {
        let path = abs(path);
        self.seen(host).unread.push(path);
        self
    }

    /// Somebody looked into every folder.
    pub(crate) fn read(&mut self, host: &str) -> &mut Self {
        self.seen(host).unread.clear();
        self
    }

    /// Does to a host what a command would do there. Only what remedies use is known, and anything
    /// else is refused.
    pub(crate) fn run(&mut self, host: &str, words: &[&str]) {
        let id = |text: &str| text.parse::<u32>().unwrap();
        match words {
            ["setsebool", "-P", ..] | ["mount", "-o", "remount,noatime", _] => {}
            ["mkdir", path] => {
                self.tree(host, &format!("d 0755 0:0 {path}"));
            }
            ["setfacl", "-R", "-m", entries, path] => {
                self.each(host, path, true, |scene, path| scene.setfacl(host, entries, path))
            }
            ["setfacl", "-m", entries, path] => self.setfacl(host, entries, path),
            ["chmod", mode, path] => self.chmod(host, mode, path),
            ["chmod", "-R", mode, path] => {
                self.each(host, path, true, |scene, path| scene.chmod(host, mode, path))
            }
            ["zfs", "set", setting, dataset] => {
                let (name, value) = setting.split_once('=').unwrap();
                let properties = &mut self.facts(host).told.properties;
                properties.retain(|known| known.name != name || known.dataset != **dataset);
                let (dataset, name, value) = ((*dataset).into(), name.to_owned(), value.into());
                properties.push(Property { dataset, name, value });
            }
            ["usermod", "-u", number, name] => {
                self.accounts(host, name, |account| account.uid = id(number));
            }
            ["usermod", "-a", "-G", group, name] => {
                self.accounts(host, name, |account| account.groups.push((*group).into()));
            }
            ["groupadd", "-g", gid, name] => self.facts(host).groups.push(group(name, id(gid))),
            ["useradd", "-r", "-u", uid, "-g", gid, .., name] => {
                let made = Account { gid: Some(id(gid)), ..account(name, id(uid), &[]) };
                self.facts(host).accounts.push(made);
            }
            ["umount", path] => {
                let table = self.facts(host).mounts.take().unwrap();
                let kept = table.entries().iter().filter(|entry| entry.point != abs(path));
                self.facts(host).mounts = Some(MountTable::new(kept.cloned().collect()));
            }
            ["mount", "-t", kind, "-o", options, source, path] => {
                let table = self.facts(host).mounts.take().unwrap();
                let kind = if *kind == "nfs" { "nfs4" } else { kind };
                let parent = table.at(&abs(path)).unwrap().id;
                let id = 99 + table.entries().len();
                let new =
                    mounts(&format!("{id} {parent} 0:{id} / {path} {kind} {source} {options}"));
                let all = table.entries().iter().chain(new.entries());
                self.facts(host).mounts = Some(MountTable::new(all.cloned().collect()));
            }
            ["mount", "-o", remount, path] if remount.starts_with("remount,") => {
                let table = self.facts(host).mounts.take().unwrap();
                let (of_bind, access) = (remount.contains("bind"), &remount[remount.len() - 2..]);
                let entries = table.entries().iter().cloned().map(|mut entry| {
                    if entry.point == abs(path) {
                        let set =
                            |options: &MountOptions| options.without(&["ro", "rw"]).with(&[access]);
                        entry.options = set(&entry.options);
                        if !of_bind {
                            entry.super_options = set(&entry.super_options);
                        }
                    }
                    entry
                });
                self.facts(host).mounts = Some(MountTable::new(entries.collect()));
            }
            ["chattr", flags, path] => {
                let mut own = self.entry(host, path).meta.flags.unwrap_or_default();
                let is_set = flags.starts_with('+');
                for (letter, flag) in [('i', &mut own.immutable), ('a', &mut own.append)] {
                    if flags.contains(letter) {
                        *flag = is_set;
                    }
                }
                self.change(host, path, |meta| meta.flags = Some(own));
            }
            ["chattr", "-R", "+P", "-p", number, path] => {
                let project = Project { id: id(number), inherits: true };
                self.each(host, path, true, |scene, path| {
                    scene.entry(host, path).extras.project = Some(project);
                });
            }
            ["find", tests @ .., "{}", "+"] => {
                let first = tests.iter().position(|word| !word.starts_with('/')).unwrap();
                let exec = tests.iter().position(|word| *word == "-exec").unwrap();
                let (paths, command) = (&tests[..first], &tests[exec + 1..]);
                let tests = &tests[first..exec];
                let each = |scene: &mut Self, path: &str| {
                    let meta = scene.entry(host, path).meta;
                    let fits = match tests {
                        ["-type", "d"] => meta.is_folder(),
                        ["-type", "f"] => !meta.is_folder(),
                        ["-type", "f", "!", "-perm", some] => {
                            let some = u16::from_str_radix(some.strip_prefix('/').unwrap(), 8);
                            !meta.is_folder() && meta.mode & some.unwrap() == 0
                        }
                        // What everybody may write, but sticky folders.
                        [
                            "!",
                            "-type",
                            "l",
                            "!",
                            "(",
                            "-type",
                            "d",
                            "-perm",
                            "-1000",
                            ")",
                            "-perm",
                            "-0002",
                        ] => {
                            meta.kind != EntryKind::Symlink
                                && meta.mode & 2 != 0
                                && !(meta.is_folder() && meta.mode & 0o1000 != 0)
                        }
                        other => panic!("find {other:?}"),
                    };
                    if fits {
                        scene.run(host, &[command, &[path]].concat());
                    }
                };
                paths.iter().for_each(|path| self.each(host, path, true, each));
            }
            // It is there as long as somebody looks what lies beneath a mount.
            ["mkdir", "-p", "/run/beneath"] | ["mount", "--bind", _, "/run/beneath"] => {}
            other => panic!("nobody here knows {other:?}"),
        }
    }

    fn accounts(&mut self, host: &str, name: &str, change: impl Fn(&mut Account)) {
        let named = |account: &&mut Account| account.name == *name;
        self.facts(host).accounts.iter_mut().filter(named).for_each(&change);
        if let Some(declared) = self.layout.hosts.iter_mut().find(|known| known.name == *host) {
            declared.accounts.iter_mut().filter(named).for_each(&change);
        }
    }

    fn each(&mut self, host: &str, top: &str, below: bool, deed: impl Fn(&mut Self, &str)) {
        let top = abs(top);
        let lines = self.seen(host).lines.iter();
        let wanted = lines.filter(|line| line.path == top || below && line.path.within(&top));
        let paths: Vec<String> = wanted.map(|line| line.path.to_string()).collect();
        paths.iter().for_each(|path| deed(self, path));
    }

    /// `setfacl -m` (setfacl(1)): entries are replaced, and the mask is worked out again unless one
    /// is given.
    fn setfacl(&mut self, host: &str, entries: &str, path: &str) {
        let known: Vec<(String, u32)> = {
            let facts = self.facts(host);
            facts
                .accounts
                .iter()
                .map(|account| (account.name.raw().to_owned(), account.uid))
                .collect()
        };
        let groups = self.facts(host).groups.clone();
        let gid = |name: &str| {
            let named = groups.iter().find(|group| group.name == *name).map(|group| group.gid);
            named.unwrap_or_else(|| name.parse().unwrap())
        };
        let entry = self.entry(host, path);
        let mut object = Object::plain(entry.meta);
        object.acl = entry.extras.acl.clone().map(Cow::Owned);
        let folder = entry.meta.is_folder();
        let (mut access, mut default) = (object.full_acl(), entry.extras.default_acl.clone());
        for written in entries.split(',') {
            let (acl, written) = match written.strip_prefix("d:") {
                Some(_) if !folder => continue,
                Some(written) => (default.get_or_insert_with(|| base(&access)), written),
                None => (&mut access, written),
            };
            let fields: Vec<&str> = written.split(':').collect();
            let executable = folder || acl.entries().iter().any(|entry| entry.perm & 1 != 0);
            let perm = fields[2].chars().fold(0, |perm, letter| {
                perm | match letter {
                    'r' => 4,
                    'w' => 2,
                    'x' => 1,
                    'X' if executable => 1,
                    _ => 0,
                }
            });
            let uid = || {
                let named = known.iter().find(|(name, _)| name == fields[1]).map(|(_, uid)| *uid);
                named.unwrap_or_else(|| fields[1].parse().unwrap())
            };
            match (fields[0], fields[1]) {
                ("u", "") => acl.set(Tag::UserObj, perm),
                ("u", _) => acl.set(Tag::User(uid()), perm),
                ("g", "") => acl.set(Tag::GroupObj, perm),
                ("g", name) => acl.set(Tag::Group(gid(name)), perm),
                ("m", "") => acl.set(Tag::Mask, perm),
                other => panic!("setfacl {other:?}"),
            }
            if !entries.contains("m::") {
                let cut =
                    |entry: &&AclEntry| !matches!(entry.tag, Tag::UserObj | Tag::Other | Tag::Mask);
                let union = acl.entries().iter().filter(cut).fold(0, |all, entry| all | entry.perm);
                if acl.entries().len() > 3 {
                    acl.set(Tag::Mask, union);
                }
            }
        }
        object.set_acl(access);
        entry.meta = object.meta;
        entry.extras.acl = object.acl.map(Cow::into_owned);
        entry.extras.default_acl = default;
    }

    /// The symbolic modes that remedies use (chmod(1)).
    fn chmod(&mut self, host: &str, mode: &str, path: &str) {
        let entry = self.entry(host, path);
        let (mut object, mut mode_now) = (Object::plain(entry.meta), entry.meta.mode);
        object.acl = entry.extras.acl.clone().map(Cow::Owned);
        let executable = entry.meta.is_folder() || mode_now & 0o111 != 0;
        let bits = |letters: &str| {
            letters.chars().fold(0, |bits, letter| {
                bits | match letter {
                    'r' => 4,
                    'w' => 2,
                    'x' => 1,
                    'X' if executable => 1,
                    _ => 0,
                }
            })
        };
        match mode.split_at(1) {
            ("0", bits) if bits.len() == 3 => mode_now = u16::from_str_radix(bits, 8).unwrap(),
            ("-", "t") => mode_now &= !0o1000,
            ("o", change) if change.starts_with('-') => mode_now &= !bits(&change[1..]),
            ("o", change) => mode_now |= bits(&change[1..]),
            ("g", change) => mode_now |= bits(&change[1..]) << 3,
            ("u", change) => mode_now |= bits(&change[1..]) << 6,
            other => panic!("chmod {other:?}"),
        }
        object.set_mode(mode_now);
        entry.meta = object.meta;
        entry.extras.acl = object.acl.map(Cow::into_owned);
    }

    /// Nobody looked at a host.
    pub(crate) fn unseen(&mut self, host: &str) -> &mut Self {
        self.seen.retain(|seen| seen.facts.name != *host);
        self
    }

    fn seen(&mut self, host: &str) -> &mut SceneHost {
        if let Some(at) = self.seen.iter().position(|seen| seen.facts.name == *host) {
            return &mut self.seen[at];
        }
        let root = NewEntry::plain("", Meta::new(EntryKind::Folder, 0o755, 0, 0));
        let facts = HostFacts::of_tree(host, TreeBuilder::new(root).finish());
        self.seen.push(SceneHost { facts, lines: Vec::new(), unread: Vec::new() });
        self.seen.last_mut().unwrap()
    }

    /// What was seen of a host, its tree aside.
    pub(crate) fn facts(&mut self, host: &str) -> &mut HostFacts {
        &mut self.seen(host).facts
    }

    /// A host of the layout.
    pub(crate) fn host(&mut self, name: &str) -> &mut Host {
        self.layout.hosts.iter_mut().find(|host| host.name == *name).unwrap()
    }

    /// A service of the layout.
    pub(crate) fn service(&mut self, name: &str) -> &mut Service {
        self.layout.services.iter_mut().find(|service| service.name == *name).unwrap()
    }

    /// Points the library Films somewhere else.
    pub(crate) fn root(&mut self, path: &str) -> &mut Self {
        self.service("lantern").libraries[0].roots = vec![declared(path)];
        self
    }

    /// A file that is there holds the same bytes as the film, and the survey knows it.
    pub(crate) fn equal_to_the_film(&mut self, other: &str) -> &mut Self {
        let film = "/loft/media/films/Low Water (2003)/Low Water (2003).mkv";
        for (path, inode) in [(film, 10), (other, 11)] {
            self.change("granary", path, |meta| {
                (meta.device, meta.inode) = (Some(9), Some(inode));
                (meta.size, meta.allocated) = (3 << 20, Some(3 << 20));
            });
        }
        for path in [film, other] {
            let node = self.node("granary", path);
            self.facts("granary").digests.insert(node, [7; 32]);
        }
        self
    }

    /// The number of an entry, as long as nothing is added or taken away.
    pub(crate) fn node(&self, host: &str, path: &str) -> NodeId {
        let site = self.site();
        let Lookup::Found(node) = site.tree(&host.into()).unwrap().find(&abs(path)) else {
            panic!("{path}")
        };
        node
    }

    /// The site as it is now.
    pub(crate) fn site(&self) -> Site {
        let facts = self.seen.iter().map(|seen| {
            let tree = grown(seen);
            HostFacts { tree, ..seen.facts.clone() }
        });
        Site::join(self.layout.clone(), facts.collect()).unwrap()
    }

    /// Everything that the rules find.
    pub(crate) fn findings(&self) -> Vec<Finding> {
        let site = self.site();
        let cases = used_paths(&site);
        registry::find(&site, &cases)
    }

    /// What a rule finds: message, arrow, remedy, a finding in a line.
    pub(crate) fn messages_of(&self, rule: &Rule) -> String {
        let mut text = String::new();
        for finding in self.findings().iter().filter(|finding| finding.rule == rule) {
            let _ = writeln!(text, "{} → {}", finding.message, finding.remedy);
        }
        text.trim_end().to_owned()
    }
}

/// What a new default ACL starts from.
fn base(acl: &Acl) -> Acl {
    let of = |tag| acl.entries().iter().copied().find(|entry| entry.tag == tag);
    Acl::new([Tag::UserObj, Tag::GroupObj, Tag::Other].into_iter().filter_map(of).collect())
}

fn grown(seen: &SceneHost) -> Tree {
    let root = Meta::new(EntryKind::Folder, 0o755, 0, 0);
    let mut builder = TreeBuilder::new(NewEntry::plain("", root));
    let mut todo: Vec<(NodeId, AbsPath)> = vec![(Tree::ROOT, AbsPath::root())];
    while let Some((node, path)) = todo.pop() {
        let inside = seen.lines.iter().filter(|line| line.path.parent().as_ref() == Some(&path));
        let entries = inside.map(|line| line.entry.clone()).collect();
        let unread = seen.unread.contains(&path);
        let listing = if unread { Listing::NotListed } else { Listing::Complete };
        for child in builder.fill(node, entries, listing) {
            todo.push((child, path.child(builder.name(child))));
        }
    }
    builder.finish()
}

/// Follows a path as a service sees it, as its own account.
pub(crate) fn route_of(site: &Site, service: &str, path: &str) -> Route {
    let service = site.layout.service(&service.into()).unwrap();
    let (subject, _) = site.subject_of(service);
    follow(site, &View::service(&service.name), &abs(path), &subject)
}

/// Follows a path of a host, as some numbers.
pub(crate) fn route_on(site: &Site, host: &str, path: &str, subject: &Subject) -> Route {
    follow(site, &View::host(host), &abs(path), subject)
}
