//! What the core answers of generated sites, held to what it answered before: whoever changes one
//! answer of many sees which. That the answers are right, other tests say, kernels and servers
//! among them.
//!
//! `tests/answers/` holds them, some sites a file. After a change that is meant, write them again
//! with `INSTA_UPDATE=always cargo test -p tarvek-core --lib generated`, and read what changed
//! there.

use std::collections::BTreeSet;
use std::fmt::Write;
use std::ops::Range;

use rayon::prelude::*;

use crate::check::report::{Report, check};
use crate::facts::media::Media;
use crate::facts::tree::{Lookup, Tree};
use crate::forecast::titles::Detail;
use crate::judge::access_check::judge;
use crate::judge::everyone::arrivals;
use crate::judge::made::{judge_within, new_entry};
use crate::judge::verdict::{Answer, Need};
use crate::kernel::acl::{Acl, AclEntry, Tag};
use crate::kernel::decide::{R, W, X, decide};
use crate::kernel::entry::{Flags, Project};
use crate::kernel::new_entry::Making;
use crate::kernel::nfs4::Nfs4Acl;
use crate::kernel::subject::{IdMap, IdRange, Subject};
use crate::layout::folder::Right;
use crate::layout::intake::{InView, Want};
use crate::layout::mapping::{MapSource, Mapping};
use crate::layout::service::{Library, RunAs, Translation, UserNs};
use crate::link::below::{Holds, holds};
use crate::link::hard::hardlink;
use crate::link::intake::ways;
use crate::link::link_paths::LinkPaths;
use crate::link::moved::rename;
use crate::link::picture::mounts as shown_mounts;
use crate::link::verdict::Verdict;
use crate::remedy::access_request::{AccessRequest, remedy};
use crate::route::follow_written;
use crate::route::hops::View;
use crate::site::join::Site;
use crate::tests::{Scene, abs, declared, folder, mapping, mount, mounts};
use crate::used::areas;
use crate::waste::found::{Contents, count, groups};
use crate::waste::inventory::{Area, FileId, Inventory, Role};
use crate::waste::pattern::Patterns;
use crate::waste::plan::{WantedWaste, plan};
use crate::words::errno::Errno;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::offer::Squash;
use crate::words::options::MountOptions;
use crate::words::place::Place;
use crate::words::prefer::Prefer;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::Severity;
use crate::words::terms::{Access, Kind, Label, Protocol};

const SITES: u64 = 120;

/// Numbers that follow from a seed (xorshift).
struct Dice(u64);

impl Dice {
    fn of(&mut self, sides: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % sides
    }

    fn is(&mut self, of_hundred: u64) -> bool {
        self.of(100) < of_hundred
    }

    fn pick<T: Clone>(&mut self, all: &[T]) -> T {
        all[self.of(all.len() as u64) as usize].clone()
    }
}

const MODES: [u16; 14] = [
    0o755, 0o775, 0o2775, 0o700, 0o750, 0o777, 0o1777, 0o644, 0o664, 0o600, 0o640, 0o070, 0o007, 0,
];
const IDS: [u32; 6] = [0, 1101, 840, 841, 842, 1102];
const GIDS: [u32; 5] = [0, 2100, 840, 842, 7];
const MEDIA: &str = "/loft/media";
const FILM: &str = "films/Low Water (2003)/Low Water (2003).mkv";

/// Names as libraries and intakes have them, some of them wrong.
const NAMES: [&str; 34] = [
    "films/High Water (2004)/High Water (2004).mkv",
    "films/High Water (2004)/High Water (2004).en.srt",
    "films/High Water (2004)/poster.jpg",
    "films/High Water (2004)/High Water (2004)-sample.mkv",
    "films/High Water (2004)/High Water (2004) 576p.mkv",
    "films/Low Water (2003)/Low Water (2003) - Copy.mkv",
    "films/Low Water (2003)/Thumbs.db",
    "films/loose.mkv",
    "films/Tide S01E02.mkv",
    "films/low water (2003)/x.nfo",
    "films/what?.mkv",
    "films/.hidden/Ebb (1999).mkv",
    "films/Empty (2001)/poster.jpg",
    "series/Harbour/Season 01/Harbour S01E01.mkv",
    "series/Harbour/Season 01/Harbour S01E02-E03.mkv",
    "series/Harbour/Season 02/Harbour S01E04.mkv",
    "series/Harbour/extra.mkv",
    "series/Weir 2x05.mkv",
    "music/Osier/Reeds (1998)/01 Sedge.flac",
    "music/Osier/Reeds (1998)/1-02 Rush.mp3",
    "music/Osier/Reeds (1998)/cover.jpg",
    "music/loose.flac",
    "photos/2019/2019-05-04 Quay/IMG_0001.jpg",
    "photos/IMG_0002.heic",
    "books/Ada Fenn/The Lock (2010).epub",
    "home-video/2020-08-01 Regatta.mp4",
    "intake/done/low.water.2003.mkv",
    "intake/done/films/Ebb.1999.1080p.mkv",
    "intake/partial/half.mkv.part",
    "intake/done/films/ebb/sample.mkv",
    ".recycle/old.mkv",
    ".lantern/config.db",
    "films/@eaDir/x",
    "lost+found/#12",
];

fn perms(dice: &mut Dice, default: bool) -> Acl {
    let mut entries: Vec<AclEntry> = [Tag::UserObj, Tag::GroupObj, Tag::Other]
        .into_iter()
        .map(|tag| AclEntry { tag, perm: dice.of(8) as u8 })
        .collect();
    for _ in 0..dice.of(3) {
        let (uid, gid) = (dice.pick(&IDS), dice.pick(&GIDS));
        let tag = if dice.is(50) { Tag::User(uid) } else { Tag::Group(gid) };
        if !entries.iter().any(|entry| entry.tag == tag) {
            entries.push(AclEntry { tag, perm: dice.of(8) as u8 });
        }
    }
    if entries.len() > 3 || default && dice.is(20) {
        entries.push(AclEntry { tag: Tag::Mask, perm: dice.of(8) as u8 });
    }
    Acl::new(entries)
}

fn nfs4(dice: &mut Dice) -> Nfs4Acl {
    const WHO: [&str; 7] = ["OWNER@", "GROUP@", "EVERYONE@", "840", "2100", "1101", "nix@else"];
    let mut lines = Vec::new();
    for _ in 0..1 + dice.of(4) {
        let who = dice.pick(&WHO);
        let kind = dice.pick(&["A", "A", "A", "D"]);
        let group = if matches!(who, "2100" | "GROUP@") { "g" } else { "" };
        let flags = dice.pick(&["", "fd", "fdi", "d"]);
        let bits = dice.pick(&["r", "rx", "rwaxDd", "wa", "x", "rwaDxtTnNcCoy", "d", "D"]);
        lines.push(format!("{kind}:{group}{flags}:{who}:{bits}"));
    }
    Nfs4Acl::of_text(lines.iter().map(String::as_str))
}

/// Entries of granary's media, with whatever decides about them.
fn entries(dice: &mut Dice, scene: &mut Scene) {
    for _ in 0..4 + dice.of(14) {
        let path = format!("{MEDIA}/{}", dice.pick(&NAMES));
        let (mode, uid, gid) = (dice.pick(&MODES), dice.pick(&IDS), dice.pick(&GIDS));
        let mode = if dice.is(60) { 0o664 } else { mode };
        scene.tree("granary", &format!("f {mode:04o} {uid}:{gid} {path}"));
        let (inode, size) = (100 + dice.of(30), dice.pick(&[0u64, 4096, 5000, 3 << 20]));
        scene.change("granary", &path, |meta| {
            (meta.device, meta.inode) = (Some(9), Some(inode));
            (meta.size, meta.allocated) = (size, Some(size.next_multiple_of(4096)));
        });
        if dice.is(10) {
            scene.change("granary", &path, |meta| meta.links = 2);
        }
    }
    if dice.is(40) {
        let target =
            dice.pick(&["films", "../media/films/loose.mkv", "/loft/media", "/nowhere", "link"]);
        let owner = dice.pick(&IDS);
        scene.tree("granary", &format!("l 0777 {owner}:0 {MEDIA}/link -> {target}"));
        scene.tree("granary", &format!("l 0777 {owner}:0 {MEDIA}/films/in -> ../{target}"));
    }
    let all: Vec<String> =
        scene.paths("granary").into_iter().filter(|path| path.starts_with(MEDIA)).collect();
    for _ in 0..dice.of(6) {
        let path = dice.pick(&all);
        let is_folder = scene
            .site()
            .tree(&"granary".into())
            .is_some_and(|tree| tree.meta(scene.node("granary", &path)).is_folder());
        match dice.of(9) {
            0..=2 => {
                let (mode, uid, gid) = (dice.pick(&MODES), dice.pick(&IDS), dice.pick(&GIDS));
                scene.change("granary", &path, |meta| {
                    (meta.mode, meta.uid, meta.gid) = (mode, uid, gid);
                });
            }
            3 => drop(scene.acl("granary", &path, perms(dice, false))),
            4 if is_folder => drop(scene.default_acl("granary", &path, perms(dice, true))),
            5 => {
                let acl = nfs4(dice);
                scene.nfs4("granary", &path, acl);
            }
            6 => {
                let (immutable, append) = (dice.is(50), dice.is(50));
                let flags = Some(Flags { immutable, append });
                scene.change("granary", &path, |meta| meta.flags = flags);
            }
            7 => {
                let project = Project { id: dice.of(3) as u32, inherits: dice.is(50) };
                scene.project("granary", &path, project);
            }
            _ if is_folder => drop(scene.unread("granary", &path)),
            _ => {}
        }
    }
}

/// What is mounted on granary.
fn own_mounts(dice: &mut Dice, scene: &mut Scene) {
    const TYPES: [&str; 9] =
        ["xfs", "ext4", "zfs", "btrfs", "vfat", "exfat", "ntfs3", "fuse.pool", "overlay"];
    let mut table = "1 0 8:1 / / ext4 /dev/sda1 rw\n".to_owned();
    let mut minor = 2;
    for point in
        ["/loft", MEDIA, "/loft/media/films", "/loft/media/intake", "/loft/media/intake/done"]
    {
        if !dice.is(35) {
            continue;
        }
        let kind = dice.pick(&TYPES);
        let options = dice.pick(&[
            "rw",
            "rw",
            "rw",
            "ro",
            "rw,nosymfollow",
            "rw,noatime",
            "rw,grpid",
            "rw,user_id=840",
            "rw,allow_other",
        ]);
        let device = if dice.is(30) { 2 } else { minor };
        let root = dice.pick(&["/", "/", "/sub"]);
        let _ =
            writeln!(table, "{minor} 1 8:{device} {root} {point} {kind} /dev/sd{device} {options}");
        minor += 1;
    }
    if dice.is(80) {
        scene.facts("granary").mounts = Some(mounts(&table));
    }
    for (setting, most) in
        [("fs.protected_hardlinks", 1), ("fs.protected_symlinks", 1), ("fs.protected_regular", 2)]
    {
        if dice.is(60) {
            let value = dice.of(most + 1).cast_signed();
            scene.facts("granary").told.sysctls.push((setting.to_owned(), value));
        }
    }
}

fn mapped(dice: &mut Dice, inside: &str) -> Vec<Mapping> {
    let access =
        |dice: &mut Dice| dice.pick(&[Access::ReadOnly, Access::ReadWrite, Access::ReadWrite]);
    let host = if inside == "/media" { dice.pick(&["/mnt/media", MEDIA]) } else { MEDIA };
    let mut all = vec![mapping(host, inside, access(dice))];
    if dice.is(30) {
        let part = dice.pick(&["films", "intake", "intake/done", "none"]);
        all.push(mapping(&format!("{host}/{part}"), &format!("{inside}/{part}"), access(dice)));
    }
    if dice.is(10) {
        let mut volume = mapping("/x", &format!("{inside}/intake"), Access::ReadWrite);
        volume.source = MapSource::Volume("kept".into());
        all.push(volume);
    }
    for map in &mut all {
        map.label = dice.is(15).then(|| dice.pick(&[Label::Shared, Label::Private]));
        map.nested = dice.is(15).then(|| access(dice));
        map.propagation = dice.is(20).then(|| "rslave".to_owned());
        map.idmap = dice.is(6);
    }
    all
}

fn services(dice: &mut Dice, scene: &mut Scene) {
    let names: Vec<Name> = scene.layout.services.iter().map(|of| of.name.clone()).collect();
    for name in names {
        let is_local = scene.service(name.raw()).host == *"granary";
        let service = scene.service(name.raw());
        if dice.is(35) {
            service.runs_as = match dice.of(4) {
                0 => RunAs::Numbers(dice.pick(&IDS), None),
                1 => RunAs::Numbers(dice.pick(&IDS), Some(dice.pick(&GIDS))),
                2 => RunAs::Account("mira".into()),
                _ => RunAs::Numbers(0, Some(0)),
            };
        }
        if is_local && dice.is(50) {
            let inside = if name == *"lantern" { "/media" } else { "/data" };
            let mut maps = mapped(dice, inside);
            maps[0].source = MapSource::Folder(declared(MEDIA));
            service.map = Some(maps);
        }
        service.umask = dice.is(40).then(|| dice.pick(&[0o002, 0o022, 0o077, 0]));
        if dice.is(15) {
            let ranges = vec![IdRange { inside: 0, outside: 100_000, count: 1000 }];
            let own = IdRange { inside: 840, outside: 840, count: 1 };
            service.userns = Some(dice.pick(&[
                UserNs::Ranges(IdMap::both(ranges)),
                UserNs::Ranges(IdMap::both(vec![own])),
                UserNs::Host,
            ]));
        }
        if dice.is(20) {
            service.ports = vec![dice.pick(&["8100", "8100:80", "8101/udp"]).to_owned()];
        }
        if dice.is(15) {
            service.config = Some(abs(dice.pick(&["/loft/media/.lantern", "/srv/config"])));
        }
    }
    let lantern = scene.service("lantern");
    let (kind, root) = dice.pick(&[
        (Kind::Films, "/media/films"),
        (Kind::Series, "/media/series"),
        (Kind::Music, "/media/music"),
        (Kind::Photos, "/media/photos"),
        (Kind::Books, "/media/books"),
        (Kind::HomeVideo, "/media/home-video"),
        (Kind::Films, "/media"),
        (Kind::Films, "/media/flims"),
        (Kind::Films, "/media/films/Low Water (2003)"),
    ]);
    if dice.is(60) {
        let first = lantern.libraries[0].clone();
        let (name, roots) = ("Second".into(), vec![declared(root)]);
        lantern.libraries.push(Library { name, kind, roots, original: dice.is(30), ..first });
    }
    if dice.is(15) {
        lantern.libraries[0].roots.push(declared(root));
    }
}

fn shares(dice: &mut Dice, scene: &mut Scene) {
    for share in &mut scene.layout.shares {
        for export in &mut share.nfs {
            export.clients =
                dice.pick(&["*", "*", "millrace", "10.20.0.0/24", "10.99.0.0/16"]).into();
            export.access = dice.pick(&[Access::ReadOnly, Access::ReadWrite]);
            export.squash = dice.pick(&[Squash::Root, Squash::Root, Squash::All, Squash::None]);
            export.anonuid = dice.is(20).then(|| dice.pick(&IDS));
            export.crossmnt = dice.is(20);
        }
        if let Some(smb) = &mut share.smb {
            let name = |dice: &mut Dice| -> Vec<Name> {
                let who = dice.pick(&["lantern", "@keepers", "mira", "nobody-there"]);
                if dice.is(25) { vec![who.into()] } else { Vec::new() }
            };
            (smb.guests, smb.writable, smb.guest_only) = (dice.is(25), dice.is(40), dice.is(5));
            (smb.only, smb.deny, smb.read) = (name(dice), name(dice), name(dice));
            (smb.write, smb.admins, smb.recycle) = (name(dice), name(dice), dice.is(20));
            smb.force_user = dice.is(10).then(|| "mira".into());
            smb.force_group = dice.is(10).then(|| "keepers".into());
            smb.create_mask = dice.is(20).then(|| dice.pick(&[0o600, 0o664, 0o777]));
        }
    }
    let mut options = Vec::new();
    for mount in &mut scene.layout.mounts {
        let text = dice.pick(&[
            "ro,nofail",
            "rw,nofail",
            "rw,soft",
            "rw,nofail,uid=840,gid=840",
            "rw,vers=1.0",
            "rw,noperm,nofail",
            "rw,uid=7,dir_mode=0700,file_mode=0600",
            "rw,forceuid,uid=840",
        ]);
        mount.options = MountOptions::read(text);
        options.push((mount.protocol, text));
    }
    if let Some((protocol, text)) = options.first().copied().filter(|_| dice.is(75)) {
        let (kind, source) = match protocol {
            Protocol::Smb => ("cifs", "//granary.lan/media"),
            _ => (
                "nfs4",
                dice.pick(&[
                    "granary.lan:/loft/media",
                    "granary.lan:/loft/media",
                    "granary.lan:/old",
                ]),
            ),
        };
        let table =
            format!("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media {kind} {source} {text}");
        scene.facts("millrace").mounts = Some(mounts(&table));
    }
}

fn intakes(dice: &mut Dice, scene: &mut Scene) {
    for intake in &mut scene.layout.intakes {
        intake.want = dice.pick(&[Want::Hardlink, Want::Hardlink, Want::Copy, Want::Rename]);
        let place = |dice: &mut Dice, usual: &str| {
            let other = ["/data/films", "/data/intake", "/data/intake/done/films", "/data/none"];
            InView::of(abs(if dice.is(80) { usual } else { dice.pick(&other) }))
        };
        let fetch = intake.fetch.as_mut().unwrap();
        fetch.partial = dice.is(80).then(|| place(dice, "/data/intake/partial"));
        fetch.done = place(dice, "/data/intake/done");
        fetch.category = dice.is(30).then(|| "films".to_owned());
        let sort = intake.sort.as_mut().unwrap();
        sort.reads = place(dice, "/data/intake/done");
        sort.files_into = place(dice, "/data/films");
        sort.category = dice.is(30).then(|| dice.pick(&["films", "Films"]).to_owned());
    }
    if scene.layout.services.len() > 1 && dice.is(20) {
        let (from, to) = (
            declared("/data/intake/done"),
            declared(dice.pick(&["/data/intake/done", "/data/films"])),
        );
        let service = "drover".into();
        scene.service("joiner").translate.push(Translation { service, from, to });
    }
}

fn declared_parts(dice: &mut Dice, scene: &mut Scene) {
    if dice.is(30) {
        let right = dice.pick(&[Right::None, Right::Read, Right::Add, Right::Change]);
        let who = dice.pick(&["@keepers", "lantern", "mira", "joiner"]);
        let mut part = folder("/loft/media/films", &[(who, right)]);
        part.owner = dice.is(30).then(|| "mira".into());
        part.mode = dice.is(30).then(|| dice.pick(&MODES));
        scene.layout.folders.push(part);
    }
    if dice.is(15) {
        scene.layout.mounts.push(mount("granary", "media", Protocol::Nfs, "/loft/media/intake"));
    }
    if dice.is(15) {
        scene.host("granary").selinux = Some(dice.is(70));
    }
    if dice.is(10) {
        let groups = &mut scene.facts("granary").groups;
        groups[1].gid = dice.pick(&GIDS);
    }
    if dice.is(10) {
        scene.facts("granary").taken = -100_000_000;
    }
    if dice.is(5) {
        scene.unseen("granary");
    }
}

/// Shapes that the rest does not have: a service straight on its host, an account that nobody has,
/// a second server of the same library, a share that is mounted as somebody unknown.
fn rarer_shapes(dice: &mut Dice, scene: &mut Scene) {
    let names: Vec<Name> = scene.layout.services.iter().map(|of| of.name.clone()).collect();
    if dice.is(12) {
        let name = dice.pick(&names);
        scene.service(name.raw()).runs_as = RunAs::Account("misspelt".into());
    }
    if dice.is(8) {
        let name = dice.pick(&names);
        scene.service(name.raw()).map = None;
    }
    if dice.is(12) {
        let mut second = scene.service("lantern").clone();
        (second.name, second.runs_as) = ("beacon".into(), RunAs::Numbers(845, Some(2100)));
        second.ports = vec!["8100".to_owned()];
        scene.layout.services.push(second);
    }
    if dice.is(25)
        && let Some(mount) = scene.layout.mounts.iter_mut().find(|of| of.protocol == Protocol::Smb)
    {
        mount.user = Some("nobody-there".into());
    }
}

/// The site of a number.
fn scene_of(number: u64) -> Scene {
    let mut dice = Dice(0x9e37_79b9_7f4a_7c15 ^ (number + 1).wrapping_mul(0x2545_f491_4f6c_dd1d));
    let dice = &mut dice;
    dice.of(2);
    let mut scene = match dice.of(8) {
        0 => Scene::local(),
        1..=3 => Scene::local().with_intake(),
        4 => Scene::over(Protocol::Nfs),
        5 => Scene::over(Protocol::Smb),
        6 => Scene::over(Protocol::Nfs).with_intake(),
        _ => Scene::with_dataset(&[("recordsize", "1M")], &[("atime", "on")]),
    };
    entries(dice, &mut scene);
    own_mounts(dice, &mut scene);
    services(dice, &mut scene);
    shares(dice, &mut scene);
    intakes(dice, &mut scene);
    declared_parts(dice, &mut scene);
    rarer_shapes(dice, &mut scene);
    scene
}

fn sign(allowed: Option<bool>, errno: Option<Errno>) -> char {
    match (allowed, errno) {
        (Some(true), _) => '+',
        (None, _) => '?',
        (_, Some(Errno::Access)) => 'a',
        (_, Some(Errno::Permission)) => 'p',
        (_, Some(Errno::ReadOnly)) => 'r',
        (_, Some(Errno::NoEntry)) => 'n',
        (_, Some(Errno::NotAFolder)) => 'd',
        (_, Some(Errno::Busy)) => 'b',
        (_, Some(Errno::Loop)) => 'l',
        _ => '-',
    }
}

fn of_answer(answer: &Answer) -> char {
    sign(answer.allowed(), answer.errno())
}

fn of_link(verdict: &Verdict) -> String {
    let sign = sign(verdict.possible, verdict.errno);
    let unsure = if verdict.may_be_refused_before { "!" } else { "" };
    format!("{sign}{unsure}{}", verdict.reason.word())
}

/// A remedy without the words that are a person's to carry out.
fn of_remedy(remedy: &Remedy) -> String {
    let step = |step: &Step| match step {
        Step::Do { .. } => "words".to_owned(),
        step => step.to_string(),
    };
    let steps: Vec<String> = remedy.steps.iter().map(step).collect();
    let effects = match remedy.effects.len() {
        0 => String::new(),
        count => format!(" ({count} effects)"),
    };
    format!("{}{effects}", steps.join("; "))
}

struct Answers<'a> {
    site: &'a Site,
    /// What lies below the media.
    there: Vec<String>,
    dice: Dice,
    out: String,
}

impl Answers<'_> {
    /// Who asks from where, and where the media are for them.
    fn viewers(&self) -> Vec<(String, View, Subject, &'static str)> {
        let mut all = Vec::new();
        for service in &self.site.layout.services {
            let inside = match (&service.map, service.name.raw()) {
                (None, _) => MEDIA,
                (_, "lantern" | "beacon") => "/media",
                _ => "/data",
            };
            let (subject, _) = self.site.subject_of(service);
            all.push((service.name.to_string(), View::service(&service.name), subject, inside));
        }
        for uid in [0, 1101, 1102] {
            let groups = if uid == 1101 { vec![2100] } else { Vec::new() };
            let who = Subject::new(uid, uid, groups);
            all.push((uid.to_string(), View::host("granary"), who, MEDIA));
        }
        if self.site.layout.host(&"millrace".into()).is_some() {
            let who = Subject::new(840, 840, []);
            all.push(("840@millrace".to_owned(), View::host("millrace"), who, "/mnt/media"));
        }
        all
    }

    fn below(&mut self) -> String {
        const FURTHER: [&str; 9] = [
            "",
            "films",
            "films/Low Water (2003)",
            FILM,
            "intake/done",
            "intake/partial",
            "films/none",
            "films/../intake",
            "link/",
        ];
        let name = match self.dice.of(10) {
            0 => self.dice.pick(&NAMES),
            1..=3 => self.dice.pick(&FURTHER),
            _ => return self.dice.pick(&self.there),
        };
        name.to_owned()
    }

    fn access(&mut self) {
        for _ in 0..9 {
            let below = self.below();
            let _ = write!(self.out, "access {below:?}");
            for (name, view, subject, top) in self.viewers() {
                let path = format!("{top}/{below}");
                let route = follow_written(self.site, &view, path.as_bytes(), &subject);
                let signs: String = [Need::Read, Need::Write, Need::Enter, Need::Add, Need::Remove]
                    .map(|need| of_answer(&judge(self.site, &route, need)))
                    .iter()
                    .collect();
                let _ = write!(self.out, " {name}:{signs}");
            }
            self.out.push('\n');
        }
    }

    fn links(&mut self) {
        for _ in 0..8 {
            let (from, to) = (self.below(), self.below());
            let viewers = self.viewers();
            let (name, view, subject, top) = self.dice.pick(&viewers);
            let to = match self.dice.of(8) {
                0..4 => format!("{to}/new"),
                4 => format!("{from}/itself"),
                5 => from.rsplit_once('/').map_or(to, |(folder, _)| folder.to_owned()),
                _ => to,
            };
            let (from, to) = (format!("{top}/{from}"), format!("{top}/{to}"));
            let ends = LinkPaths::of(self.site, &view, &subject, from.as_bytes(), to.as_bytes());
            let (link, moved) = (of_link(&hardlink(&ends)), of_link(&rename(&ends)));
            let _ = write!(self.out, "link {name} {from:?} {to:?}: {link} {moved}");
            for shown in shown_mounts(&ends) {
                let (source, target) = (shown.has_source, shown.has_target);
                let (at, access) = (shown.at, shown.access.word());
                let kind = shown.filesystem.map(|of| of.to_string()).unwrap_or_default();
                let _ = write!(self.out, " {at}:{kind}:{access}:{source}:{target}");
            }
            if let Some(holds) = holds(&ends) {
                let Holds { possible, files, unseen, causes } = &holds;
                let (all, none) = (holds.all_possible(), holds.none_possible());
                let _ = write!(self.out, " holds {possible}/{files} {unseen} {all:?} {none}");
                for cause in causes {
                    let sign = sign(cause.possible, cause.errno);
                    let (reason, examples) = (cause.reason.word(), cause.examples.len());
                    let _ = write!(self.out, " {sign}{reason}:{}:{examples}", cause.count);
                }
            }
            self.out.push('\n');
        }
        for step in ways(self.site).flat_map(|ways| ways.steps(self.site)) {
            let (stage, does) = (step.stage.word(), step.does.word());
            let (link, moved) = (of_link(&step.link), of_link(&step.rename));
            let _ = writeln!(self.out, "step {stage} {does}: {link} {moved}");
        }
    }

    fn new_entries(&mut self) {
        for (name, view, subject, top) in self.viewers() {
            let below = self.dice.pick(&["films", "intake/done", "films/Low Water (2003)"]);
            let path = format!("{top}/{below}");
            let route = follow_written(self.site, &view, path.as_bytes(), &subject);
            let making = Making::usual(self.dice.is(40), self.dice.pick(&[0o022, 0o002, 0o077]));
            let Some(made) = new_entry(self.site, &route, making) else { continue };
            let meta = made.meta;
            let acl = if made.acl.is_some() || made.nfs4.is_some() { " acl" } else { "" };
            let could: String = Need::of_made(&made)
                .iter()
                .map(|need| of_answer(&judge_within(self.site, &route, &made, *need)))
                .collect();
            let _ = writeln!(
                self.out,
                "made {name} {below:?}: {:04o} {}:{}{acl} {could}",
                meta.mode, meta.uid, meta.gid
            );
        }
    }

    fn remedies(&mut self) {
        for _ in 0..3 {
            let below = self.below();
            let viewers = self.viewers();
            let (name, view, subject, top) = self.dice.pick(&viewers);
            let path = format!("{top}/{below}");
            let route = follow_written(self.site, &view, path.as_bytes(), &subject);
            let need = self.dice.pick(&[Need::Read, Need::Add, Need::Write, Need::Remove]);
            let needs = [need];
            let wish = AccessRequest::at(&route, &needs);
            let wish = if self.dice.is(50) { wish.and_below() } else { wish };
            if let Some(remedy) = remedy(self.site, &wish) {
                let remedy = of_remedy(&remedy);
                let _ = writeln!(self.out, "remedy {name} {below:?} {}: {remedy}", need.word());
            }
        }
    }

    fn report(&mut self) {
        let report = check(self.site);
        for row in &report.board {
            let stages = &row.stages;
            let signs: Vec<&str> = [stages.mapped, stages.mounted, stages.exists, stages.readable]
                .iter()
                .map(|state| state.word())
                .collect();
            let (titles, linkable) = (stages.titles, stages.linkable.map(|state| state.word()));
            let _ = writeln!(
                self.out,
                "row {} {} {titles:?} {linkable:?} ready {} {}/{}",
                row.name,
                signs.join(" "),
                row.ready,
                row.unreadable,
                row.entries
            );
        }
        for finding in &report.findings {
            let place = &finding.place;
            let path = place.path.as_ref().map(ToString::to_string).unwrap_or_default();
            let remedy = of_remedy(&finding.remedy);
            let (rule, severity) = (finding.rule.id, finding.severity.word());
            let affects = finding.affects.len();
            let _ = writeln!(self.out, "finding {rule} {severity} {path} {affects}: {remedy}");
        }
    }

    fn forecasts(&mut self) {
        let all = crate::check::outlook::outlooks(self.site, |_, _| true, None, Detail::Everything);
        for outlook in all {
            let f = &outlook.forecast;
            let _ = writeln!(
                self.out,
                "forecast {}: {} titles {} files {} unreadable {} unrecognised {} ignored {} \
                 missed",
                outlook.row.name,
                f.titles,
                f.files,
                f.unreadable,
                f.unrecognised,
                f.ignored,
                outlook.missed().len()
            );
            for found in &f.found {
                let season = found.season.map(|season| format!(" s{season}")).unwrap_or_default();
                let year = found.year.map(|year| format!(" {year}")).unwrap_or_default();
                let by = found.by.as_deref().map(|by| format!(" by {by}")).unwrap_or_default();
                let (episodes, files, subtitles) =
                    (&found.episodes, found.files.len(), &found.subtitles);
                let _ = writeln!(
                    self.out,
                    "  {}{by}{year}{season} {episodes:?} {files} {subtitles:?}",
                    found.title
                );
            }
        }
    }

    fn waste(&mut self) {
        let Some(_) = self.site.tree(&"granary".into()) else { return };
        let area = |below: &str, role, kind| Area {
            place: Place::new("granary", abs(&format!("{MEDIA}/{below}"))),
            role,
            name: below.into(),
            kind,
            prefer: Prefer::of("").unwrap(),
        };
        let areas = vec![
            area("films", Role::Library, Some(Kind::Films)),
            area("series", Role::Library, Some(Kind::Series)),
            area("intake", Role::Intake, None),
        ];
        let stock = Inventory::new(self.site, areas, &areas::named(self.site));
        let patterns = Patterns::new(&[]);
        let read = ByInode(&stock);
        let mut found = groups(&stock, &patterns, plan(&stock, &patterns, WantedWaste::ALL), &read);
        count(&stock, &mut found, &|_| None);
        for group in &found {
            let item = |item: &crate::waste::group::Item| {
                let name = String::from_utf8_lossy(stock.name(item.name)).into_owned();
                format!("{} {name} {}", item.suggest.word(), item.frees)
            };
            let items: Vec<String> = group.items.iter().map(item).collect();
            let most = if group.at_most { "<=" } else { "" };
            let _ = writeln!(
                self.out,
                "waste {} {most}{}: {}",
                group.kind.word(),
                group.frees,
                items.join(", ")
            );
        }
    }
}

/// Contents that follow from the inode: some are equal.
struct ByInode<'s, 'a>(&'a Inventory<'s>);

impl Contents for ByInode<'_, '_> {
    fn digest(&self, file: FileId) -> Option<[u8; 32]> {
        self.0.meta(file).inode.map(|inode| [(inode % 5) as u8; 32])
    }

    fn media(&self, file: FileId) -> Option<Media> {
        let inode = self.0.meta(file).inode? as u32;
        let (width, height) = (Some(1280), Some(480 + inode % 3 * 300));
        let (millis, video) = (Some(6_000_000), Some("hevc".to_owned()));
        Some(Media { millis, width, height, video, tracks: 1, ..Media::default() })
    }
}

fn answers_of(number: u64) -> String {
    let mut scene = scene_of(number);
    let there = scene.paths("granary").into_iter();
    let there = there.filter_map(|path| path.strip_prefix(MEDIA).map(str::to_owned));
    let there = there.chain(["/".to_owned()]).collect();
    let site = scene.site();
    let dice = Dice(number + 77);
    let mut answers = Answers { site: &site, there, dice, out: format!("site {number}\n") };
    answers.access();
    answers.links();
    answers.new_entries();
    answers.remedies();
    answers.report();
    answers.forecasts();
    answers.waste();
    answers.out
}

#[test]
fn what_was_answered_of_generated_sites_is_answered_again() {
    const OF_FILE: usize = 10;
    let all: Vec<String> = (0..SITES).into_par_iter().map(answers_of).collect();
    let mut settings = insta::Settings::new();
    settings.set_snapshot_path("../../tests/answers");
    settings.set_prepend_module_to_snapshot(false);
    settings.set_omit_expression(true);
    #[allow(clippy::disallowed_macros)] // insta asks where the workspace is
    settings.bind(|| {
        for (n, some) in all.chunks(OF_FILE).enumerate() {
            insta::assert_snapshot!(format!("sites-{:03}", n * OF_FILE), some.concat());
        }
    });
}

/// Board, findings and exit code say the same.
#[test]
fn a_row_is_ready_unless_a_finding_says_why_not() {
    let contradictions = |number: u64| {
        let report = check(&scene_of(number).site());
        let mut found = Vec::new();
        for row in &report.board {
            let about = row.affected();
            let affects = |least| {
                let of_row = |f: &&Finding| f.severity >= least && f.affects.contains(&about);
                report.findings.iter().filter(of_row).map(|f| f.rule.id).collect::<Vec<_>>()
            };
            let (blockers, risks) = (affects(Severity::Blocker), affects(Severity::Risk));
            if row.ready && !blockers.is_empty() || !row.ready && risks.is_empty() {
                found.push(format!("site {number} {about}: {} {blockers:?}", row.verdict));
            }
        }
        found
    };
    let all: Vec<String> = (0..SITES * 4).into_par_iter().flat_map(contradictions).collect();
    assert!(
        all.is_empty(),
        "{} contradictions, such as\n{}",
        all.len(),
        all[..all.len().min(40)].join("\n")
    );
}

/// A site after one remedy was carried out to the letter; `None` if it is words alone, or has a
/// command that nobody here knows.
fn carried_out(before: &Scene, site: &Site, finding: &Finding) -> Option<Scene> {
    const KNOWN: [&str; 11] = [
        "setfacl", "chmod", "mkdir", "useradd", "groupadd", "usermod", "find", "umount", "mount",
        "chattr", "zfs",
    ];
    let mut scene = before.clone();
    let mut is_deed = false;
    for step in &finding.remedy.steps {
        match step {
            Step::Do { .. } => continue,
            Step::Edit(edit) => scene.layout.edit(edit)?,
            Step::Run { on, run } => {
                let words: Vec<String> =
                    run.words().iter().map(|w| String::from_utf8_lossy(w).into_owned()).collect();
                let words: Vec<&str> = words.iter().map(String::as_str).collect();
                if !KNOWN.contains(&words[0]) || site.facts(on).is_none() {
                    return None;
                }
                scene.run(on.raw(), &words);
            }
        }
        is_deed = true;
    }
    is_deed.then_some(scene)
}

/// What somebody could do to an entry before and no longer can.
fn taken(before: &Site, after: &Site) -> Option<String> {
    for (host, facts) in before.observed() {
        let (old, new) = (before.objects(host)?, after.objects(host)?);
        let top = Place::new(host, abs(MEDIA));
        let asks = arrivals(before, &top);
        for node in facts.tree.below(Tree::ROOT) {
            let path = facts.tree.path(node);
            let Lookup::Found(now) = new.tree.find(&path) else { continue };
            let (was, is) = (old.of(node), new.of(now));
            for (who, subject) in &asks {
                for bit in [R, W, X] {
                    let executes = bit == X && !was.is_folder();
                    if !executes
                        && decide(&was, subject, bit).allowed
                        && !decide(&is, subject, bit).allowed
                    {
                        return Some(format!("{bit} on {path} from {who}"));
                    }
                }
            }
        }
    }
    None
}

/// One remedy alone leaves the site better: it clears what it is for, no row that was ready stops
/// being so, and no blocker has come.
fn no_harm_in(sites: Range<u64>) {
    let harm = |number: u64| {
        let scene = scene_of(number);
        let site = scene.site();
        let before = check(&site);
        // What a blocker stands in the way of; one that affects no row, by itself. A row that had one
        // reason not to be ready may have the next one, which nobody saw behind it.
        let blockers = |report: &Report| -> BTreeSet<String> {
            let all = report.findings.iter().filter(|f| f.severity == Severity::Blocker);
            let blocked = |f: &Finding| match f.affects.is_empty() {
                true => vec![format!("{} {}", f.rule.id, f.about)],
                false => f.affects.iter().map(ToString::to_string).collect(),
            };
            all.flat_map(blocked).collect()
        };
        let mut had = blockers(&before);
        for finding in before.findings.iter().filter(|f| f.severity != Severity::Note) {
            if finding.severity == Severity::Blocker {
                had.insert(format!("{} {}", finding.rule.id, finding.about));
            }
            had.extend(finding.affects.iter().map(ToString::to_string));
        }
        // Of a row that is ready, whatever comes is new.
        for row in before.board.iter().filter(|row| row.ready) {
            had.retain(|known| *known != row.affected().to_string());
        }
        let mut found = Vec::new();
        for finding in &before.findings {
            let Some(after) = carried_out(&scene, &site, finding) else { continue };
            let after_site = after.site();
            let after = check(&after_site);
            let lost = before.board.iter().zip(&after.board).find(|(a, b)| a.ready && !b.ready);
            let new: Vec<_> = blockers(&after).difference(&had).cloned().collect();
            // What a person has to do besides is not done here.
            let is_whole = !finding.remedy.steps.iter().any(|s| matches!(s, Step::Do { .. }));
            let alike = |report: &Report| {
                let same = |f: &&Finding| {
                    f.rule.id == finding.rule.id
                        && f.about == finding.about
                        && f.place.path == finding.place.path
                };
                report.findings.iter().filter(same).count()
            };
            let stays = is_whole && alike(&after) >= alike(&before);
            let unsaid = finding.remedy.effects.is_empty();
            let taken = unsaid.then(|| taken(&site, &after_site)).flatten();
            if lost.is_some() || !new.is_empty() || stays || taken.is_some() {
                let lost = lost.map(|(row, now)| format!(" {} {}", row.name, now.verdict));
                let stays = if stays { " stays" } else { "" };
                found.push(format!(
                    "{}: site {number}{stays}{}{} {new:?}: {}",
                    finding.rule.id,
                    lost.unwrap_or_default(),
                    taken.map(|taken| format!(" takes {taken}")).unwrap_or_default(),
                    finding.remedy
                ));
            }
        }
        found
    };
    let mut all: Vec<String> = sites.into_par_iter().flat_map(harm).collect();
    all.sort();
    assert!(all.is_empty(), "{} remedies do harm:\n{}", all.len(), all.join("\n"));
}

#[test]
fn no_single_remedy_makes_anything_worse() {
    no_harm_in(0..SITES);
}

/// The same on many more: `cargo test -p tarvek-core --lib -- --ignored`.
#[test]
#[ignore = "takes minutes"]
fn no_single_remedy_of_two_thousand_sites_makes_anything_worse() {
    no_harm_in(SITES..SITES * 18);
}

/// Carried out one after another in the order of the report, remedies come to an end, and no blocker
/// is left that has one.
#[test]
fn all_remedies_in_their_order_leave_no_blocker_that_has_one() {
    let left = |number: u64| {
        let mut scene = scene_of(number);
        let mut done: Vec<String> = Vec::new();
        for _ in 0..MOST_REMEDIES {
            let site = scene.site();
            let report = check(&site);
            // What was carried out and brought nothing is no remedy.
            let is_new = |finding: &&Finding| !done.contains(&finding.remedy.to_string());
            let mut open = report.findings.iter().filter(is_new);
            let next = open.find_map(|f| Some((f, carried_out(&scene, &site, f)?)));
            let Some((finding, after)) = next else {
                // What a person has to do besides is not done here.
                let deeds = |f: &&Finding| {
                    let is_whole = !f.remedy.steps.iter().any(|s| matches!(s, Step::Do { .. }));
                    is_whole && carried_out(&scene, &site, f).is_some()
                };
                let blockers = report.findings.iter().filter(|f| f.severity == Severity::Blocker);
                let left = blockers.filter(deeds).map(|f| format!("{} {}", f.rule.id, f.remedy));
                return left.map(|left| format!("site {number}: {left} stays")).collect();
            };
            done.push(finding.remedy.to_string());
            scene = after;
        }
        vec![format!("site {number} has no end: {:#?}", &done[done.len() - 4..])]
    };
    let all: Vec<String> = (0..SITES).into_par_iter().flat_map(left).collect();
    assert!(all.is_empty(), "{} of them:\n{}", all.len(), all.join("\n"));
}

/// No site needs more.
const MOST_REMEDIES: usize = 60;
