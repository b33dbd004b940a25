//! Ranges of ids.

use std::ops::Range;

use tarvek_core::kernel::subject::{IdMap, IdRange};

use super::raw::RawIdRange;
use crate::mistake::Mistakes;
use crate::structure::At;

/// The lines of an id map (`user_namespaces(7)`): none may overlap another, inside or outside.
pub(super) fn ranges(mistakes: &mut Mistakes, raw: Vec<At<RawIdRange>>) -> Vec<IdRange> {
    let mut ranges: Vec<(IdRange, Range<usize>)> = Vec::new();
    for At { value: raw, span } in raw {
        let (Some(inside), Some(outside), Some(count)) = (raw.inside, raw.outside, raw.count)
        else {
            continue;
        };
        let range = IdRange { inside, outside, count };
        if !range.fits() {
            let remedy = "count starts at 1, and no id is larger than 4294967294".to_owned();
            mistakes.add(span, "a range that has no such ids", Some(remedy));
            continue;
        }
        ranges.push((range, span));
    }
    let mut sorted = ranges.iter().map(|(range, _)| *range).collect::<Vec<_>>();
    if let Some((first, second)) = overlap(&mut sorted) {
        let late = ranges.iter().rev().find(|(range, _)| *range == first || *range == second);
        let span = late.map_or(0..0, |(_, span)| span.clone());
        mistakes.add(span, overlapping(first, second), Some(NO_OVERLAP.to_owned()));
    }
    ranges.into_iter().map(|(range, _)| range).collect()
}

/// Ranges for users and groups alike, or marked `u:` and `g:`.
pub(super) fn id_map(text: &str) -> Option<IdMap> {
    let mut map = IdMap::default();
    for written in text.split(',') {
        let (range, users, groups) = match (written.strip_prefix("u:"), written.strip_prefix("g:"))
        {
            (Some(range), _) => (id_range(range)?, true, false),
            (_, Some(range)) => (id_range(range)?, false, true),
            _ => (id_range(written)?, true, true),
        };
        map.uids.extend(users.then_some(range));
        map.gids.extend(groups.then_some(range));
    }
    let apart = |ranges: &[IdRange]| overlap(&mut ranges.to_vec()).is_none();
    (apart(&map.uids) && apart(&map.gids)).then_some(map)
}

const NO_OVERLAP: &str = "each id stands in one line, inside and outside";

fn overlapping(first: IdRange, second: IdRange) -> String {
    let range = |r: IdRange| format!("{}:{}:{}", r.inside, r.outside, r.count);
    format!("the ranges {} and {} overlap", range(first), range(second))
}

/// Two ranges that have an id in common, inside or outside.
fn overlap(ranges: &mut [IdRange]) -> Option<(IdRange, IdRange)> {
    let first_of: [fn(&IdRange) -> u32; 2] = [|range| range.inside, |range| range.outside];
    first_of.into_iter().find_map(|first| {
        ranges.sort_by_key(first);
        let meets = |pair: &&[IdRange]| first(&pair[1]) - first(&pair[0]) < pair[0].count;
        ranges.windows(2).find(meets).map(|pair| (pair[0], pair[1]))
    })
}

/// `INSIDE:OUTSIDE:COUNT`, none of it empty and none past the last id.
fn id_range(text: &str) -> Option<IdRange> {
    let numbers: Vec<u32> = text.split(':').map(str::parse).collect::<Result<_, _>>().ok()?;
    let [inside, outside, count] = numbers[..] else { return None };
    let range = IdRange { inside, outside, count };
    range.fits().then_some(range)
}
