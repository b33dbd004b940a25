//! `link/copied-imports`.

use std::collections::{HashMap, HashSet};

use crate::facts::host::HostFacts;
use crate::facts::tree::NodeId;
use crate::kernel::entry::EntryKind;
use crate::layout::intake::Want;
use crate::link::intake::{Way, Ways, ways};
use crate::scan::kinds::is_media;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::{About, Affected};
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::place::Place;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Kind;
use crate::words::text::{bytes, counted};
use crate::words::word::Word;

/// Imports that were copied.
pub static RULE: Rule = Rule {
    id: "link/copied-imports",
    severity: Severity::Risk,
    title: "Files in the library are copies of files in the intake",
    means: "A file in the library has the size of one in the intake and a name like it (or the \
            same digest, where the survey has both), and yet \
            the two are two files. It was copied where it should have been linked.",
    hurts: "Each of them takes its space twice for as long as the download stays.",
    fix: "See why they are copied (`tarvek link`), clear that, and make one file of each pair once \
          both are sure to be equal.",
    example: "/loft/media/films/Low Water (2003)/Low Water (2003).mkv and \
              /loft/media/intake/done/films/low.water.2003.mkv have both \
              4 511 203 328 bytes.",
};

/// What is smaller than this (bytes) and no media file is not worth a finding: sidecars and artwork
/// are copied everywhere.
const SMALLEST: u64 = 1 << 20;

/// Judges every intake that is to link.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let linking = ways(site).filter(|ways| ways.intake.want == Want::Hardlink);
    linking.filter_map(|ways| judge_ways(site, &ways)).collect()
}

/// A file of the library, and the one in the intake that it was copied from.
struct Pair {
    source: NodeId,
    copy: NodeId,
    /// What both digests say, where both are known.
    sure: bool,
}

fn judge_ways(site: &Site, ways: &Ways) -> Option<Finding> {
    let (reads, into) = (ways.reads.as_ref()?, ways.files_into.as_ref()?);
    let (from, to) = (folder(reads)?, folder(into)?);
    if from.0 != to.0 {
        return None;
    }
    let facts = site.facts(from.0)?;
    let pairs = pairs(facts, from.1, to.1);
    let first = pairs.first()?;
    let size = |node: NodeId| {
        let meta = facts.tree.meta(node);
        meta.allocated.unwrap_or(meta.size)
    };
    let saved: u64 = pairs.iter().map(|pair| size(pair.copy)).sum();
    let known = match pairs.iter().filter(|pair| pair.sure).count() {
        all if all == pairs.len() => "by their digests",
        0 => "by size and name",
        _ => "by digest, or by size and name",
    };
    let path = |node| facts.tree.path(node);
    let (count, example) = (pairs.len() as u64, (path(first.copy), path(first.source)));
    let message = format!(
        "{} in {} {} of files in {} ({known}), such as {} of {}; linked they would give back at \
         most {}",
        counted(count, "file"),
        path(to.1),
        if count == 1 { "is a copy" } else { "are copies" },
        path(from.1),
        example.0,
        example.1,
        bytes(saved)
    );
    let (service, intake) = (ways.intake.sort.as_ref()?.service.clone(), ways.intake.name.clone());
    let finding = RULE
        .finding(About::Intake { service, intake: intake.clone() })
        .line(ways.intake.origin.line)
        .known(Evidence::Observed)
        .affects([Affected::Intake(intake)])
        .says(message);
    let place = Place::new(from.0, path(to.1));
    Some(finding.at(&place).remedy(remedy(site, from.0, &pairs)))
}

/// The entry of a way's end, and the host that shows it.
fn folder<'a>(way: &'a Way) -> Option<(&'a Name, NodeId)> {
    let (at, node) = way.route.entry()?;
    Some((&at.seen_on, node))
}

/// Files of one folder that are copied in another: of one size, of names alike or of one digest,
/// and not one file.
fn pairs(facts: &HostFacts, from: NodeId, to: NodeId) -> Vec<Pair> {
    let tree = &facts.tree;
    let files = |top: NodeId, but: NodeId| {
        let below = tree.below_but(top, move |node| node == but);
        below.filter(|node| {
            let meta = tree.meta(*node);
            let counts = meta.size >= SMALLEST || meta.size > 0 && is_any_media(tree.name(*node));
            meta.kind == EntryKind::File && counts
        })
    };
    let mut of_size: HashMap<u64, Vec<NodeId>> = HashMap::new();
    for node in files(from, to) {
        of_size.entry(tree.meta(node).size).or_default().push(node);
    }
    if of_size.is_empty() {
        return Vec::new();
    }
    // Listings may lack device numbers; then it is the mount that tells filesystems apart.
    let device = |node: NodeId| {
        let mount = || facts.mounts.as_ref()?.at(&tree.path(node)).map(|mount| mount.device);
        let of_mount = || mount().map(|(major, minor)| u64::from(major) << 32 | u64::from(minor));
        tree.meta(node).device.or_else(of_mount)
    };
    let inode = |node: NodeId| Some((device(node)?, tree.meta(node).inode?));
    let mut counted = HashSet::new();
    let mut pairs = Vec::new();
    for copy in files(to, from) {
        let same_size = of_size.get(&tree.meta(copy).size).into_iter().flatten();
        let found = same_size.copied().find_map(|source| {
            // One file under two names is what there should be.
            if inode(source).is_none() || inode(source) == inode(copy) {
                return None;
            }
            let sure = match (facts.digests.get(&source), facts.digests.get(&copy)) {
                (Some(one), Some(other)) if one != other => return None,
                (Some(_), Some(_)) => true,
                _ if alike(tree.name(source), tree.name(copy)) => false,
                _ => return None,
            };
            Some(Pair { source, copy, sure })
        });
        // Of several names of one copy only one counts.
        if let Some(pair) = found.filter(|pair| counted.insert(inode(pair.copy))) {
            pairs.push(pair);
        }
    }
    pairs.sort_by_key(|pair| std::cmp::Reverse(tree.meta(pair.copy).size));
    pairs
}

fn is_any_media(name: &[u8]) -> bool {
    Kind::ALL.iter().any(|kind| is_media(*kind, name))
}

/// Whether two names are made of the same words, for the most part: half of those of the shorter
/// one, and a word of more than digits among them, or all of it. Episodes and years of another number are others.
fn alike(one: &[u8], other: &[u8]) -> bool {
    let words = |name: &[u8]| -> HashSet<String> {
        let text = String::from_utf8_lossy(name).to_lowercase();
        let stem = text.rsplit_once('.').map_or(text.as_str(), |(stem, _)| stem).to_owned();
        let parts = stem.split(|c: char| !c.is_alphanumeric()).filter(|part| !part.is_empty());
        parts.map(str::to_owned).collect()
    };
    let (one, other) = (words(one), words(other));
    let differs = |is: fn(&str) -> bool| {
        let of = |words: &HashSet<String>| -> HashSet<String> {
            words.iter().filter(|word| is(word)).cloned().collect()
        };
        let (one, other) = (of(&one), of(&other));
        !one.is_empty() && !other.is_empty() && one.is_disjoint(&other)
    };
    if differs(is_episode) || differs(is_year) || differs(is_number) {
        return false;
    }
    let common: Vec<&String> = one.intersection(&other).collect();
    let shorter = one.len().min(other.len());
    // A title may be a number; with its year, and nothing else in the shorter name, it says enough.
    let numbers = common.len() >= 2 && common.len() == shorter;
    let telling = numbers || common.iter().any(|word| word.chars().any(char::is_alphabetic));
    telling && common.len() * 2 >= shorter
}

fn digits(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit())
}

/// `s01e04`, `1x04`.
fn is_episode(word: &str) -> bool {
    let pair = |text: &str, between: char| {
        text.split_once(between).is_some_and(|(one, other)| digits(one) && digits(other))
    };
    word.strip_prefix('s').is_some_and(|rest| pair(rest, 'e')) || pair(word, 'x')
}

/// Of a track, a part, or in a title.
fn is_number(word: &str) -> bool {
    word.len() <= 3 && digits(word)
}

fn is_year(word: &str) -> bool {
    word.parse::<u32>().is_ok_and(|year| (1800..2200).contains(&year))
}

/// To make one file of each pair, once it is sure that nothing is lost by it.
fn remedy(site: &Site, host: &Name, pairs: &[Pair]) -> Remedy {
    let review = "`tarvek waste --kind unlinked --review unlinked.csv`";
    let steps = vec![
        Step::words("see with `tarvek link` why they were copied, and clear that first"),
        Step::on(
            host,
            format!(
                "with this layout there: {review}, decide in it, then `tarvek reclaim unlinked.csv \
                 --yes`: it makes one file of each pair \
                 that is equal to the last byte, where nobody loses it"
            ),
        ),
    ];
    let mut effects = vec![
        "both names then have the owner, the mode and the ACL of the file that stays".to_owned(),
    ];
    let differs = pairs.iter().filter(|pair| {
        let object = |node| site.object(host, node);
        let rights = |node| {
            object(node).map(|object| {
                (object.meta.uid, object.meta.gid, object.meta.mode, object.full_acl())
            })
        };
        rights(pair.source) != rights(pair.copy)
    });
    match differs.count() as u64 {
        0 => effects.clear(),
        count => effects.push(format!("{} of them have other rights now", counted(count, "pair"))),
    }
    Remedy { steps, effects }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::{RULE, alike};
    use crate::rules::promise::{FILM, Promise, done, intake};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| {
                let waiting = "/loft/media/intake/done/low.water.2003.mkv";
                scene.tree("granary", &format!("f 0664 841:2100 {waiting}"));
                for (path, inode) in [(FILM, 10), (waiting, 11)] {
                    scene.change("granary", path, |meta| {
                        (meta.device, meta.inode, meta.size) = (Some(1), Some(inode), 3 << 20);
                    });
                }
            })
        },
        by_hand: |scene| {
            let inode = Some(11);
            done(scene.change("granary", FILM, |meta| meta.inode = inode));
        },
    };

    #[test]
    fn names_are_alike_by_their_words() {
        for (one, other, like) in [
            ("Low Water (2003).mkv", "low.water.2003.1080p-KH.mkv", true),
            ("Low Water (2003).mkv", "Low Water (2003).mkv", true),
            ("01 - Harbour.flac", "Harbour.flac", true),
            ("Pier 88 S01E03.mkv", "1742.2019.mkv", false),
            ("2003.mkv", "Low Water (2003).mkv", false),
            ("1742 (2019).mkv", "1742.2019.1080p-KH.mkv", true),
            ("1742 (2019).mkv", "1743.2019.1080p-KH.mkv", false),
            ("A.mkv", "B.mkv", false),
            ("Ferry Nine S01E04.mkv", "ferry.nine.s01e04.1080p.mkv", true),
            ("Ferry Nine S01E04.mkv", "ferry.nine.s01e05.mkv", false),
            ("Low Water (2003).mkv", "Low.Water.2011.mkv", false),
            ("01 Slack Tide.flac", "02 Slack Tide.flac", false),
        ] {
            assert_eq!(alike(one.as_bytes(), other.as_bytes()), like, "{one} {other}");
        }
    }

    #[test]
    fn copies_are_told_from_links_and_from_strangers() {
        let mut scene = Scene::local().with_intake();
        let film = "/loft/media/films/Low Water (2003)/Low Water (2003).mkv";
        let done = "/loft/media/intake/done/low.water.2003.mkv";
        scene.tree("granary", &format!("f 0664 841:2100 {done}"));
        let as_file = |scene: &mut Scene, path: &str, inode: u64, size: u64| {
            scene.change("granary", path, |meta| {
                (meta.device, meta.inode, meta.size) = (Some(1), Some(inode), size);
            });
        };
        as_file(&mut scene, film, 10, 3 << 20);
        as_file(&mut scene, done, 11, 3 << 20);
        let told = format!(
            "1 file in /loft/media/films is a copy of files in /loft/media/intake/done (by size \
             and name), such as {film} of {done}; linked they \
             would give back at most 3.0 MiB → see with `tarvek link` why they were copied, and \
             clear that first; on granary: with this layout \
             there: `tarvek waste --kind unlinked --review unlinked.csv`, decide in it, then \
             `tarvek reclaim unlinked.csv --yes`: it makes one \
             file of each pair that is equal to the last byte, where nobody loses it"
        );
        assert_eq!(scene.messages_of(&RULE), told);
        as_file(&mut scene, done, 10, 3 << 20);
        assert_eq!(scene.messages_of(&RULE), "", "one file");
        as_file(&mut scene, done, 11, (3 << 20) + 1);
        assert_eq!(scene.messages_of(&RULE), "", "another size");
        as_file(&mut scene, film, 10, 7);
        as_file(&mut scene, done, 11, 7);
        assert_ne!(scene.messages_of(&RULE), "", "a media file counts, however small");
        as_file(&mut scene, film, 10, 0);
        as_file(&mut scene, done, 11, 0);
        assert_eq!(scene.messages_of(&RULE), "", "there is nothing in them");
    }
}
