//! What the kernel tells of a process (`proc(5)`): who it is, which namespaces it has, and what it
//! sees of its host.

use tarvek_core::facts::configured::{Configured, Fact, MappingFact, ServiceFact};
use tarvek_core::facts::mounts::{MountEntry, MountTable};
use tarvek_core::kernel::subject::{IdMap, IdRange};
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::spot::Spot;

use crate::mountinfo;

/// Who a process is, in ids of whoever looks.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Status {
    /// The ids that decide about files (`Uid`, `Gid`: the fourth).
    pub uid: u32,
    pub gid: u32,
    pub groups: Vec<u32>,
    /// Effective capabilities, a bit each (`capabilities(7)`).
    pub capabilities: u64,
    pub umask: Option<u16>,
    /// The program's name.
    pub name: String,
}

impl Status {
    /// Reads `/proc/PID/status`; `None` if a line that is needed is missing.
    pub fn read(text: &str) -> Option<Self> {
        let line = |key: &str| {
            let line = text.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix(':'));
            line.map(str::trim)
        };
        let fourth = |key: &str| line(key)?.split_whitespace().nth(3)?.parse().ok();
        let groups = line("Groups")?.split_whitespace().map(str::parse).collect::<Result<_, _>>();
        Some(Self {
            uid: fourth("Uid")?,
            gid: fourth("Gid")?,
            groups: groups.ok()?,
            capabilities: u64::from_str_radix(line("CapEff")?, 16).ok()?,
            umask: line("Umask").and_then(|umask| u16::from_str_radix(umask, 8).ok()),
            name: line("Name").unwrap_or_default().to_owned(),
        })
    }
}

/// Reads `/proc/PID/uid_map` or `gid_map`.
pub fn ranges(text: &str) -> Vec<IdRange> {
    let range = |line: &str| {
        let mut numbers = line.split_whitespace().map(str::parse);
        let mut next = || numbers.next()?.ok();
        Some(IdRange { inside: next()?, outside: next()?, count: next()? })
    };
    text.lines().filter_map(range).collect()
}

/// Whether a namespace has all ids as they are: then it is as good as none.
pub fn is_whole(ids: &IdMap) -> bool {
    let all = [IdRange { inside: 0, outside: 0, count: u32::MAX }];
    ids.uids == all && ids.gids == all
}

/// What a process's cgroup (`cgroups(7)`) calls it: the unit, or what an engine named its scope
/// after.
pub fn unit_of(cgroup: &str) -> Option<String> {
    let paths = cgroup.lines().filter_map(|line| line.splitn(3, ':').nth(2));
    // An engine may put folders of its own below that of the unit.
    let is_unit = |part: &&str| part.ends_with(".service") || part.ends_with(".scope");
    let unit = { paths }.find_map(|path| path.rsplit('/').find(is_unit))?;
    let name = unit.rsplit_once('.').map_or(unit, |(name, _)| name);
    // The first digits of a long hexadecimal number say as much.
    let is_hex = |tail: &&str| tail.len() >= 32 && tail.bytes().all(|b| b.is_ascii_hexdigit());
    Some(match name.rsplit('-').next().filter(is_hex) {
        Some(tail) => format!("{}{}", &name[..name.len() - tail.len()], &tail[..12]),
        None => name.to_owned(),
    })
}

/// A process that lives in mounts of its own.
#[derive(Clone, Debug)]
pub struct Running {
    pub pid: u32,
    pub status: Status,
    /// `None` where it has the ids of its host.
    pub ids: Option<IdMap>,
    pub mounts: MountTable,
    /// What it goes by.
    pub name: Name,
}

/// Mounts of a container that its engine makes for itself, and that hold no media.
const OF_ENGINES: [&[u8]; 3] = [b"/etc/resolv.conf", b"/etc/hostname", b"/etc/hosts"];

/// Filesystems that the kernel makes up.
const MADE_UP: [&str; 12] = [
    "proc",
    "sysfs",
    "devtmpfs",
    "devpts",
    "cgroup",
    "cgroup2",
    "mqueue",
    "securityfs",
    "debugfs",
    "tracefs",
    "configfs",
    "bpf",
];

impl Running {
    /// Whether it is what a layout has as a service: it lives in a root of its own, as containers
    /// do, or it is shown a folder that its host has elsewhere, or otherwise, and that may hold
    /// media. Many a daemon has mounts of its own only to be kept from the system's.
    pub fn is_service(&self, host: &MountTable) -> bool {
        let is_contained = self
            .mounts
            .root()
            .is_none_or(|root| host.shows(root, &root.point, |_, _| true) != Some(AbsPath::root()));
        is_contained || self.mounts.entries().iter().any(|entry| shows_media(entry, host))
    }

    /// The same as a service: what it sees of its host's files, and who it is.
    pub fn facts(&self, host: &MountTable) -> Vec<Configured> {
        let spot = |name: &str| Spot { file: format!("/proc/{}/{name}", self.pid).into(), line: 1 };
        let userns = self.ids.as_ref().map(|ids| {
            let list = |mark: &str, ranges: &[IdRange]| -> Vec<String> {
                let range = |r: &IdRange| format!("{mark}{}:{}:{}", r.inside, r.outside, r.count);
                ranges.iter().map(range).collect()
            };
            [list("u:", &ids.uids), list("g:", &ids.gids)].concat().join(",").into()
        });
        // A layout has ids as the inside knows them.
        let inside = |ranges: Option<&Vec<IdRange>>, id: u32| match ranges {
            None => Some(id),
            Some(ranges) => ranges.iter().find_map(|range| {
                let offset =
                    id.checked_sub(range.outside).filter(|offset| *offset < range.count)?;
                Some(range.inside + offset)
            }),
        };
        let uids = self.ids.as_ref().map(|ids| &ids.uids);
        let gids = self.ids.as_ref().map(|ids| &ids.gids);
        let groups = self.status.groups.iter().filter_map(|gid| inside(gids, *gid));
        let service = ServiceFact {
            name: self.name.clone(),
            uid: inside(uids, self.status.uid),
            gid: inside(gids, self.status.gid),
            umask: self.status.umask,
            groups: groups.map(|gid| gid.to_string().into()).collect(),
            userns,
            ..ServiceFact::default()
        };
        let mut facts = vec![Configured { fact: Fact::Service(service), spot: spot("status") }];
        for (n, entry) in self.mounts.entries().iter().enumerate() {
            let at = entry.point.as_bytes();
            let below = [&b"/dev"[..], b"/proc", b"/sys"].iter().any(|top| {
                at.strip_prefix(*top).is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
            });
            if below || OF_ENGINES.contains(&at) || MADE_UP.contains(&entry.filesystem.raw()) {
                continue;
            }
            // What no mount of the host shows is the container's own.
            let Some(from) = host.shows(entry, &entry.point, |_, _| true) else { continue };
            let fact = MappingFact {
                service: self.name.clone(),
                from: from.as_bytes().to_vec(),
                to: at.to_vec(),
                access: entry.access(),
                label: None,
                propagation: None,
                idmap: entry.has("idmapped"),
            };
            let line = u32::try_from(n + 1).unwrap_or(u32::MAX);
            let spot = Spot { line, ..spot("mountinfo") };
            facts.push(Configured { fact: Fact::Mapping(fact), spot });
        }
        facts
    }
}

/// Whether a mount shows what may hold media, and not as its host has it mounted anyway.
fn shows_media(entry: &MountEntry, host: &MountTable) -> bool {
    let Some(from) = host.shows(entry, &entry.point, |_, _| true) else { return false };
    let own = host.mounted_at(&entry.point);
    let is_as_on_host =
        from == entry.point && own.is_some_and(|own| own.access() == entry.access());
    !is_as_on_host && !from.is_of_the_system() && !entry.point.is_of_the_system()
}

/// Names for processes, of which no two are the same.
pub fn name_of(cgroup: &str, status: &Status, pid: u32, taken: &mut Vec<String>) -> Name {
    let mut name = unit_of(cgroup).unwrap_or_else(|| status.name.clone());
    if taken.contains(&name) {
        name = format!("{name}-{pid}");
    }
    taken.push(name.clone());
    name.into()
}

/// Reads the document `processes` of a survey: for each, `# PID`, then lines of its files in
/// `/proc`, each behind the file's name.
pub fn read(text: &str) -> Vec<Running> {
    let mut names = Vec::new();
    let mut all = Vec::new();
    let mut rest = text;
    while let Some(start) = rest.find("# ") {
        rest = &rest[start + 2..];
        let end = rest.find("\n# ").map_or(rest.len(), |at| at + 1);
        let (part, after) = rest.split_at(end);
        rest = after;
        let (pid, lines) = part.split_once('\n').unwrap_or((part, ""));
        let of = |file: &str| -> String {
            let lines = lines.lines().filter_map(|line| line.strip_prefix(file)?.strip_prefix(' '));
            lines.collect::<Vec<_>>().join("\n")
        };
        let (Ok(pid), Some(status)) = (pid.trim().parse(), Status::read(&of("status"))) else {
            continue;
        };
        let Ok(mounts) = mountinfo::read(of("mountinfo").as_bytes()) else { continue };
        let ids = IdMap { uids: ranges(&of("uid_map")), gids: ranges(&of("gid_map")) };
        let ids = Some(ids).filter(|ids| !is_whole(ids) && !ids.uids.is_empty());
        let name = name_of(&of("cgroup"), &status, pid, &mut names);
        all.push(Running { pid, status, ids, mounts, name });
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "# 7\ncgroup 0::/system.slice/lantern.service/payload\nstatus Name:\tx y\n\
                        status Umask:\t0027\nstatus Uid:\t1\t2\t3\t100840\n\
        status Gid:\t5\t6\t7\t100841\nstatus Groups:\t100010 20 \nstatus \
        CapEff:\t000000000000000a\nuid_map          0     100000      65536\n\
        gid_map          0     100000      65536\nmountinfo 9 8 8:1 /loft/media /media ro - ext4 \
        /dev/sda rw\nmountinfo 10 8 0:5 / /tmp rw - tmpfs t rw\n\
        # 8\nstatus Name:\tbroken\n";

    #[test]
    fn the_fourth_id_decides_and_mounts_are_found_on_the_host() {
        let all = read(TEXT);
        let [one] = all.as_slice() else { panic!("{all:?}") };
        assert_eq!(
            (one.status.uid, one.status.umask, one.status.capabilities),
            (100_840, Some(0o27), 10)
        );
        let host = mountinfo::read(b"1 0 8:1 / / rw - ext4 /dev/sda rw\n").unwrap();
        let facts = one.facts(&host);
        let Fact::Service(service) = &facts[0].fact else { panic!() };
        assert_eq!(
            (service.name.raw(), service.uid, service.gid),
            ("lantern", Some(840), Some(841))
        );
        assert_eq!(service.groups, ["10"], "what is not mapped has no number inside");
        let Fact::Mapping(map) = &facts[1].fact else { panic!() };
        assert_eq!(
            (map.from.as_slice(), map.to.as_slice(), map.access.word()),
            (&b"/loft/media"[..], &b"/media"[..], "ro")
        );
        assert_eq!(facts.len(), 2);
        assert_eq!(Status::read("Uid:\t1\t2\t3\n"), None);
    }

    #[test]
    fn a_daemon_is_no_service_for_the_mounts_that_guard_it() {
        let host = "1 0 8:1 / / rw - ext4 /dev/sda rw\n2 1 8:2 / /mnt/media rw - xfs /dev/sdb rw\n";
        let is_service = |table: &str| {
            let running = Running {
                pid: 1,
                status: Status::default(),
                ids: None,
                mounts: mountinfo::read(table.as_bytes()).unwrap(),
                name: "x".into(),
            };
            running.is_service(&mountinfo::read(host.as_bytes()).unwrap())
        };
        assert!(!is_service(host), "all mounts of its host");
        let private = "3 1 8:1 /tmp/private /tmp rw - ext4 /dev/sda rw\n\
                       4 1 8:1 /run/none /home ro - ext4 /dev/sda rw\n";
        assert!(!is_service(&format!("{host}{private}")));
        let own = "3 1 8:1 /srv/films /srv/films rw - ext4 /dev/sda rw\n";
        assert!(is_service(&format!("{host}{own}")), "it is let write there");
        let kept = host.replace("/mnt/media rw", "/mnt/media ro");
        assert!(is_service(&kept), "it is kept from writing there");
        assert!(is_service("1 0 0:40 / / rw - overlay overlay rw\n"), "its root is its own");
        assert!(is_service("1 0 8:1 /srv/root / rw - ext4 /dev/sda rw\n"), "its root is elsewhere");
    }

    #[test]
    fn an_engine_is_named_by_its_unit() {
        for (cgroup, name) in [
            ("0::/system.slice/lantern.service\n", Some("lantern")),
            (
                "0::/machine.slice/libpod-0123456789abcdef0123456789abcdef.scope/container",
                Some("libpod-0123456789ab"),
            ),
            ("1:name=systemd:/x\n0::/user.slice/a.scope\n", Some("a")),
            ("0::/\n", None),
        ] {
            assert_eq!(unit_of(cgroup).as_deref(), name, "{cgroup}");
        }
    }
}
