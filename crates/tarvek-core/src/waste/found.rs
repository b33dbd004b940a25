//! Groups of what is wasted, from what was planned and what was read.

use std::cmp::Reverse;
use std::collections::{BTreeMap, HashMap, HashSet};

use crate::facts::media::Media;
use crate::waste::back::{self, Exam};
use crate::waste::copies::{beside, copies};
use crate::waste::group::{Group, Suggest, Waste};
use crate::waste::inventory::{FileId, Inventory, NameAt};
use crate::waste::pattern::Patterns;
use crate::waste::plan::Plan;
use crate::waste::versions::versions;
use crate::words::about::Affected;
use crate::words::place::Place;

/// What was read of files.
pub trait Contents {
    /// The digest of a file, where it was needed and could be had.
    fn digest(&self, file: FileId) -> Option<[u8; 32]>;
    /// Whether that digest is one of all its bytes, so that others can be told by it.
    fn is_whole(&self, _: FileId) -> bool {
        true
    }
    /// What its header says.
    fn media(&self, file: FileId) -> Option<Media>;

    /// Whether other files or snapshots are known to have blocks of it: then it gives back little,
    /// and is the one to stay.
    fn is_shared(&self, _: FileId) -> bool {
        false
    }
}

/// Groups, before it is counted what comes back.
pub fn groups(
    stock: &Inventory,
    patterns: &Patterns,
    plan: Plan,
    contents: &dyn Contents,
) -> Vec<Group> {
    let mut taken: HashSet<NameAt> = plan.leftovers.taken;
    let mut groups = plan.leftovers.groups;
    let mut equal: HashMap<[u8; 32], Vec<FileId>> = HashMap::new();
    for file in plan.same_size.iter().flatten() {
        if let Some(digest) = contents.digest(*file) {
            equal.entry(digest).or_default().push(*file);
        }
    }
    equal.retain(|_, files| files.len() > 1);
    let copied: HashMap<FileId, [u8; 32]> = equal
        .iter()
        .flat_map(|(digest, files)| files.iter().map(|file| (*file, *digest)))
        .collect();
    let same = |file: FileId| copied.get(&file).copied();
    let media = |file: FileId| contents.media(file);
    // A title of which some files are equal is one group with all of them.
    for title in &plan.titles {
        let kinds: HashSet<Option<[u8; 32]>> = title.files.iter().map(|v| same(v.file)).collect();
        let all_equal = kinds.len() == 1 && !kinds.contains(&None);
        if all_equal {
            continue;
        }
        let Some(mut group) = versions(stock, title, &taken, &same, &media) else { continue };
        let own: HashSet<FileId> = title.files.iter().map(|version| version.file).collect();
        let outside: Vec<FileId> = kinds
            .iter()
            .flatten()
            .flat_map(|digest| equal[digest].iter().copied())
            .filter(|file| !own.contains(file))
            .collect();
        // Where nobody can say that one may go, what is equal to it counts for more.
        let goes = group.items.iter().any(|item| item.suggest == Suggest::Drop);
        if !outside.is_empty() && !goes {
            continue;
        }
        let best = group.items.first().and_then(|item| stock.file(item.name));
        for file in outside {
            let keep = best.filter(|best| same(*best) == same(file));
            group.items.extend(beside(stock, patterns, keep, file, &taken));
        }
        taken.extend(group.items.iter().map(|item| item.name));
        groups.push(group);
    }
    let mut equal: Vec<([u8; 32], Vec<FileId>)> = equal.into_iter().collect();
    equal.sort_by_key(|(_, files)| files[0]);
    for (digest, mut files) in equal {
        files.sort_unstable();
        if let Some(mut group) =
            copies(stock, patterns, &files, digest, &taken, &|file| contents.is_shared(file))
        {
            group.digest = Some(digest).filter(|_| contents.is_whole(files[0]));
            taken.extend(group.items.iter().map(|item| item.name));
            groups.push(group);
        }
    }
    // What is left of titles whose equal files belong to another group.
    for title in &plan.titles {
        if let Some(group) = versions(stock, title, &taken, &same, &media) {
            taken.extend(group.items.iter().map(|item| item.name));
            groups.push(group);
        }
    }
    groups
}

/// Counts what comes back, and puts first what brings most.
pub fn count(stock: &Inventory, groups: &mut [Group], exam: &dyn Fn(FileId) -> Option<Exam>) {
    back::count(stock, groups, exam);
    let weight = |group: &Group| -> u64 {
        let all = group.items.iter().filter(|item| item.suggest != Suggest::Keep);
        all.filter_map(|item| stock.file(item.name))
            .map(|file| stock.meta(file).allocated.unwrap_or(0))
            .sum()
    };
    groups.sort_by_cached_key(|group| {
        let first = group.items.first().map(|item| stock.place(item.name));
        (Reverse(group.frees), Reverse(weight(group)), first, group.kind)
    });
}

/// What a kind or an area comes to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sum {
    pub groups: u64,
    /// Names that would go.
    pub files: u64,
    pub bytes: u64,
    pub at_most: bool,
    /// Groups at which somebody has to look.
    pub look: u64,
}

impl Sum {
    /// Both together.
    pub fn add_sum(&mut self, other: &Self) {
        self.groups += other.groups;
        self.files += other.files;
        self.bytes += other.bytes;
        self.at_most |= other.at_most;
        self.look += other.look;
    }

    /// With one more group.
    pub fn add(&mut self, group: &Group) {
        self.groups += 1;
        self.files += group.items.iter().filter(|item| item.suggest.takes()).count() as u64;
        self.bytes += group.frees;
        self.at_most |= group.at_most;
        self.look += u64::from(group.items.iter().any(|item| item.suggest == Suggest::Look));
    }
}

/// What there is of one kind of waste in one library or intake.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wasted {
    pub sum: Sum,
    /// One of the names that would go, or that somebody has to look at.
    pub example: Option<Place>,
}

/// What is known of waste without reading anything: by kind, and by the place in which it is.
pub type AllWaste = BTreeMap<Waste, Vec<(Affected, Place, Wasted)>>;

/// What each kind comes to.
pub fn by_kind(groups: &[Group]) -> Vec<(Waste, Sum)> {
    let mut sums: HashMap<Waste, Sum> = HashMap::new();
    for group in groups {
        sums.entry(group.kind).or_default().add(group);
    }
    let mut sums: Vec<(Waste, Sum)> = sums.into_iter().collect();
    sums.sort_by_key(|(kind, sum)| (Reverse(sum.bytes), *kind));
    sums
}

/// What each area gives back, by its place in [`Inventory::areas`], with the groups that have files
/// in it.
pub fn by_area(stock: &Inventory, groups: &[Group]) -> Vec<(u16, Sum)> {
    let mut sums: Vec<Sum> = vec![Sum::default(); stock.areas.len()];
    for group in groups {
        let mut met = HashSet::new();
        for item in &group.items {
            let sum = &mut sums[usize::from(item.name.area)];
            sum.bytes += item.frees;
            sum.files += u64::from(item.suggest.takes());
            sum.at_most |= group.at_most && item.frees > 0;
            sum.look += u64::from(item.suggest == Suggest::Look);
            if item.suggest != Suggest::Keep && met.insert(item.name.area) {
                sum.groups += 1;
            }
        }
    }
    let mut sums: Vec<(u16, Sum)> =
        sums.into_iter().enumerate().map(|(n, sum)| (n as u16, sum)).collect();
    sums.sort_by_key(|(n, sum)| (Reverse(sum.bytes), *n));
    sums
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::host::Source;
    use crate::tests::{Scene, abs};
    use crate::waste::inventory::{Area, Role};
    use crate::waste::plan::{WantedWaste, plan};
    use crate::words::prefer::Prefer;
    use crate::words::terms::Kind;

    /// What a test says of files, by the last component of a path: what they hold, and lines,
    /// seconds and codec.
    struct GivenContents<'s, 'a> {
        stock: &'a Inventory<'s>,
        bytes: &'a [(&'a str, u8)],
        media: &'a [(&'a str, u32, u64, &'a str)],
    }

    impl GivenContents<'_, '_> {
        fn is(&self, file: FileId, name: &str) -> bool {
            self.stock.names(file).iter().any(|at| self.stock.name(*at) == name.as_bytes())
        }
    }

    impl Contents for GivenContents<'_, '_> {
        fn digest(&self, file: FileId) -> Option<[u8; 32]> {
            self.bytes.iter().find(|(name, _)| self.is(file, name)).map(|(_, byte)| [*byte; 32])
        }

        fn media(&self, file: FileId) -> Option<Media> {
            let told = self.media.iter().find(|(name, ..)| self.is(file, name));
            told.map(|(_, lines, seconds, codec)| Media {
                millis: Some(seconds * 1000),
                width: Some(lines * 16 / 9),
                height: Some(*lines),
                video: Some((*codec).to_owned()),
                tracks: 1,
                ..Media::default()
            })
        }
    }

    /// The groups of granary's films and intake, each as its kind and `suggestion name`.
    fn summary(
        scene: &mut Scene,
        prefer: &str,
        bytes: &[(&str, u8)],
        media: &[(&str, u32, u64, &str)],
    ) -> Vec<String> {
        scene.facts("granary").source = Source::Live;
        let site = scene.site();
        let area = |path: &str, role, kind| Area {
            place: Place::new("granary", abs(path)),
            role,
            name: path.rsplit('/').next().unwrap().into(),
            kind,
            prefer: Prefer::of(prefer).unwrap(),
        };
        let areas = vec![
            area("/loft/media/films", Role::Library, Some(Kind::Films)),
            area("/loft/media/more", Role::Library, Some(Kind::Films)),
            area("/loft/media/intake", Role::Intake, None),
        ];
        let stock = Inventory::new(&site, areas, &[]);
        let patterns = Patterns::new(&[]);
        let told = GivenContents { stock: &stock, bytes, media };
        let mut found = groups(&stock, &patterns, plan(&stock, &patterns, WantedWaste::ALL), &told);
        count(&stock, &mut found, &|_| None);
        let mut groups: Vec<String> = found
            .iter()
            .filter(|group| group.kind != Waste::Hollow)
            .map(|group| {
                let item = |item: &crate::waste::group::Item| {
                    let name = String::from_utf8_lossy(stock.name(item.name)).into_owned();
                    format!("{} {name}", item.suggest.word())
                };
                let items: Vec<String> = group.items.iter().map(item).collect();
                format!("{} {}: {}", group.kind.word(), group.frees, items.join(", "))
            })
            .collect();
        groups.sort();
        groups
    }

    /// A scene with further files of 5000 bytes each, numbered from inode 100 on.
    fn scene(paths: &[&str]) -> Scene {
        let mut scene = Scene::local().with_intake();
        for (n, path) in paths.iter().enumerate() {
            scene.tree("granary", &format!("f 0664 1101:2100 {path}"));
            scene.change("granary", path, |meta| {
                (meta.device, meta.inode) = (Some(9), Some(100 + n as u64));
                (meta.size, meta.allocated) = (5000, Some(8192));
            });
        }
        scene
    }

    #[test]
    fn copies_are_kept_where_they_are_filed_best() {
        let equal = [("Ebb (2001).mkv", 1), ("ebb.mkv", 1), ("Ebb (2001) (1).mkv", 1)];
        for (paths, expected) in [
            (
                ["films/Ebb (2001)/Ebb (2001).mkv", "films/ebb.mkv"],
                "copy 8192: keep Ebb (2001).mkv, drop ebb.mkv",
            ),
            (
                ["films/Ebb (2001)/Ebb (2001).mkv", "more/ebb.mkv"],
                "copy 8192: keep Ebb (2001).mkv, link ebb.mkv",
            ),
            (
                ["films/Ebb (2001)/Ebb (2001).mkv", "intake/done/ebb.mkv"],
                "unlinked 8192: keep Ebb (2001).mkv, link ebb.mkv",
            ),
            (
                ["films/Ebb (2001)/Ebb (2001) (1).mkv", "films/Ebb (2001)/Ebb (2001).mkv"],
                "copy 8192: keep Ebb (2001).mkv, drop Ebb (2001) (1).mkv",
            ),
        ] {
            let paths = paths.map(|path| format!("/loft/media/{path}"));
            let mut scene = scene(&[&paths[0], &paths[1]]);
            assert_eq!(summary(&mut scene, "", &equal, &[]), [expected]);
        }
    }

    #[test]
    fn nothing_is_promised_of_a_file_with_names_elsewhere() {
        let (kept, other) =
            ("/loft/media/films/Ebb (2001)/Ebb (2001).mkv", "/loft/media/films/ebb.mkv");
        let equal = [("Ebb (2001).mkv", 1), ("ebb.mkv", 1)];
        let mut scene = scene(&[kept, other]);
        scene.change("granary", other, |meta| meta.links = 2);
        // What can't be freed is what stays.
        assert_eq!(
            summary(&mut scene, "", &equal, &[]),
            ["copy 8192: keep ebb.mkv, drop Ebb (2001).mkv"]
        );
        scene.change("granary", kept, |meta| meta.links = 2);
        assert_eq!(
            summary(&mut scene, "", &equal, &[]),
            ["copy 0: keep Ebb (2001).mkv, drop ebb.mkv"]
        );
        // Another filesystem may be there for safety.
        scene.change("granary", other, |meta| meta.device = Some(10));
        assert_eq!(
            summary(&mut scene, "", &equal, &[]),
            ["copy 0: keep Ebb (2001).mkv, look ebb.mkv"]
        );
    }

    #[test]
    fn versions_by_picture_or_by_what_is_preferred() {
        let folder = "/loft/media/films/Ebb (2001)";
        let names = ["Ebb (2001) a.mkv", "Ebb (2001) b.mkv"];
        let paths = names.map(|name| format!("{folder}/{name}"));
        let mut two = scene(&[&paths[0], &paths[1]]);
        let media = |a: (u32, u64, &'static str), b: (u32, u64, &'static str)| {
            [(names[0], a.0, a.1, a.2), (names[1], b.0, b.1, b.2)]
        };
        let (large, small) = ((2160, 6000, "h264"), (1080, 6000, "hevc"));
        let keeps_a = ["version 8192: keep Ebb (2001) a.mkv, drop Ebb (2001) b.mkv"];
        let keeps_b = ["version 8192: keep Ebb (2001) b.mkv, drop Ebb (2001) a.mkv"];
        let looks = ["version 0: keep Ebb (2001) a.mkv, look Ebb (2001) b.mkv"];
        for (prefer, a, b, expected) in [
            ("", large, small, &keeps_a),
            ("hevc", large, small, &keeps_b),
            ("at most 1080p", large, small, &keeps_b),
            ("at most 720p", large, small, &keeps_a),
            ("", large, (1080, 6031, "hevc"), &looks),
            ("", (2160, 600, "h264"), (1080, 613, "h264"), &looks),
            ("", large, (1080, 6029, "hevc"), &keeps_a),
        ] {
            let told = summary(&mut two, prefer, &[], &media(a, b));
            assert_eq!(told, expected.as_slice(), "{prefer} {a:?} {b:?}");
        }
        // A copy of the better one in the intake stays a link; of the other one somebody has to
        // think.
        let came = "/loft/media/intake/done/came.mkv";
        let mut three = scene(&[&paths[0], &paths[1], came]);
        for (of, suggest) in [(names[0], "link"), (names[1], "look")] {
            let freed = if suggest == "link" { 16_384 } else { 8192 };
            let told = summary(&mut three, "", &[(of, 1), ("came.mkv", 1)], &media(large, small));
            let text = format!(
                "version {freed}: keep Ebb (2001) a.mkv, drop Ebb (2001) b.mkv, {suggest} came.mkv"
            );
            assert_eq!(told, [text]);
        }
    }
}
