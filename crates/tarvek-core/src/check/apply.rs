//! Which edits of the layout, of those that findings advise, can be made together.

use std::collections::HashSet;

use crate::check::board::Row;
use crate::check::report::Report;
use crate::layout::site::Layout;
use crate::words::about::Affected;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::remedy::{Change, Edit};
use crate::words::rule::Severity;

/// Edits that can be made together.
#[derive(Debug, Default)]
pub struct Selection<'a> {
    /// The findings whose edits they are.
    pub chosen: Vec<&'a Finding>,
    /// Each once, in the order of the findings.
    pub edits: Vec<Edit>,
    /// Findings that are left, with the reason.
    pub left: Vec<(&'a Finding, String)>,
}

/// Chooses of findings, the first ones first, those whose edits no earlier one contradicts.
pub fn select_edits<'a>(
    layout: &Layout,
    findings: impl IntoIterator<Item = &'a Finding>,
) -> Selection<'a> {
    let mut selection = Selection::default();
    let mut trial = layout.clone();
    for finding in findings {
        let edits: Vec<&Edit> = finding.remedy.edits().collect();
        if edits.is_empty() {
            let why = "nothing of its remedy is an edit of the layout".to_owned();
            selection.left.push((finding, why));
            continue;
        }
        let new: Vec<&Edit> =
            edits.into_iter().filter(|edit| !selection.edits.contains(edit)).collect();
        let other = new.iter().find(|edit| selection.edits.iter().any(|made| clash(made, edit)));
        if let Some(edit) = other {
            let part = edit.part.phrase();
            let why = format!("another finding's edit changes {part} too: apply this one after it");
            selection.left.push((finding, why));
            continue;
        }
        let mut next = trial.clone();
        if new.iter().all(|edit| next.edit(edit).is_some()) {
            trial = next;
            selection.edits.extend(new.into_iter().cloned());
            selection.chosen.push(finding);
        } else {
            let why = "the edits of another finding leave no place for its own".to_owned();
            selection.left.push((finding, why));
        }
    }
    selection
}

/// Whether two edits can't both be made as they are meant.
fn clash(one: &Edit, other: &Edit) -> bool {
    let within = |inner: &Part, outer: &Part| {
        std::iter::successors(Some(inner.clone()), Part::enclosing).any(|part| part == *outer)
    };
    let goes = |edit: &Edit| edit.change == Change::Remove;
    // Two items of one list go well together.
    let adds = |edit: &Edit| matches!(edit.change, Change::Add(_));
    (one.part == other.part && one.key == other.key && !(adds(one) && adds(other)))
        || (goes(one) && one.key.is_empty() && within(&other.part, &one.part))
        || (goes(other) && other.key.is_empty() && within(&one.part, &other.part))
}

/// What a change of the layout cleared, and what it brought about.
#[derive(Debug)]
pub struct Outcome<'a> {
    pub cleared: Vec<&'a Finding>,
    pub new: Vec<&'a Finding>,
}

/// Compares two reports. That the layout says now what a host does not have yet is no news: it is
/// what is still to be done there.
pub fn compare_reports<'a>(before: &'a Report, after: &'a Report) -> Outcome<'a> {
    let ids =
        |report: &'a Report| report.findings.iter().map(|f| f.id.as_str()).collect::<HashSet<_>>();
    let (had, has) = (ids(before), ids(after));
    let missing = |report: &'a Report, known: &HashSet<&str>| {
        let all = report.findings.iter().filter(|finding| !known.contains(finding.id.as_str()));
        all.collect::<Vec<_>>()
    };
    let mut new = missing(after, &had);
    new.retain(|finding| {
        !matches!(finding.rule.id, "layout/not-applied" | "layout/differs-from-host")
    });
    Outcome { cleared: missing(before, &has), new }
}

/// The new findings that a change brings about. Those of rows that a cleared blocker kept from being
/// judged, and that stand as well as before in all that was known of them, were there before.
pub fn brought_about<'a>(before: &'a Report, after: &'a Report) -> Vec<&'a Finding> {
    let Outcome { cleared, mut new } = compare_reports(before, after);
    let blockers = cleared.iter().filter(|finding| finding.severity == Severity::Blocker);
    let unblocked: HashSet<&Affected> = blockers.flat_map(|finding| &finding.affects).collect();
    let is_revealed = |affected: &Affected| {
        let of = |report: &'a Report| report.board.iter().filter(|row| row.affected() == *affected);
        let pairs: Vec<(&Row, &Row)> = of(before).zip(of(after)).collect();
        unblocked.contains(affected)
            && !pairs.is_empty()
            && pairs.iter().all(|(was, is)| is.only_tells_more_than(was))
    };
    new.retain(|finding| finding.affects.is_empty() || !finding.affects.iter().all(is_revealed));
    new
}

#[cfg(test)]
mod tests {
    use super::{brought_about, compare_reports, select_edits};
    use crate::check::report::check;
    use crate::layout::service::RunAs;
    use crate::layout::site::Layout;
    use crate::rules::registry::named;
    use crate::tests::{Scene, mapping, share};
    use crate::words::about::About;
    use crate::words::finding::Finding;
    use crate::words::part::{MappedInto, Part};
    use crate::words::remedy::{Change, Edit, Remedy, Step};
    use crate::words::terms::Access;
    use crate::words::value::Value;

    fn edit(part: Part, key: &'static str, change: Change) -> Edit {
        Edit { part, key, change, line: 1 }
    }

    fn finding(steps: Vec<Step>) -> Finding {
        let rule = named("path/missing").unwrap();
        let remedy = Remedy { steps, ..Remedy::default() };
        Finding { remedy, ..rule.finding(About::Service("lantern".into())) }
    }

    /// Which of two edits, each of a finding of its own, are made.
    fn of_two(one: Edit, other: Edit) -> String {
        let scene = scene();
        let findings = [finding(vec![Step::Edit(one)]), finding(vec![Step::Edit(other)])];
        let selection = select_edits(&scene.layout, &findings);
        assert_eq!(selection.chosen.len(), selection.edits.len());
        let left = selection.left.iter().map(|(_, why)| why.as_str());
        format!("{} {}", selection.edits.len(), left.collect::<Vec<_>>().join("; "))
    }

    fn scene() -> Scene {
        let mut scene = Scene::local();
        scene.layout.shares.push(share("media", "/loft/media"));
        let music = mapping("/loft/music", "/music", Access::ReadOnly);
        scene.service("lantern").map.as_mut().unwrap().push(music);
        scene
    }

    fn map(to: &str) -> Part {
        Part::Mapping { of: MappedInto::Service("lantern".into()), to: to.into() }
    }

    #[test]
    fn edits_that_contradict_each_other_are_not_made_together() {
        let set =
            |part: Part, key: &'static str, to: &str| edit(part, key, Change::Set(Value::from(to)));
        let lantern = || Part::Service("lantern".into());
        let gone = |part: Part| edit(part, "", Change::Remove);
        let port = |port: &str| edit(lantern(), "ports", Change::Add(Value::from(port)));
        let both = "2 ";
        assert_eq!(of_two(port("1"), port("2")), both);
        assert_eq!(
            of_two(set(map("/media"), "from", "/a"), set(map("/music"), "from", "/b")),
            both
        );
        assert_eq!(
            of_two(set(map("/media"), "from", "/a"), set(map("/media"), "access", "rw")),
            both
        );
        assert_eq!(of_two(set(map("/media"), "from", "/a"), gone(map("/music"))), both);
        let lefts = ["1 another finding's edit changes", "1 the edits of another finding leave"];
        for (one, other) in [
            (set(map("/media"), "from", "/a"), set(map("/media"), "from", "/b")),
            (port("1"), edit(lantern(), "ports", Change::Remove)),
            (set(map("/media"), "from", "/a"), gone(map("/media"))),
            (gone(map("/media")), set(map("/media"), "from", "/a")),
            (gone(lantern()), set(map("/media"), "from", "/a")),
            (set(map("/media"), "from", "/a"), gone(lantern())),
        ] {
            let told = of_two(one.clone(), other.clone());
            assert!(lefts.iter().any(|left| told.starts_with(left)), "{one:?} {other:?}: {told}");
        }
        // The same edit twice is one, and both findings are served by it.
        let same = set(map("/media"), "from", "/a");
        let findings = [finding(vec![Step::Edit(same.clone())]), finding(vec![Step::Edit(same)])];
        let selection = select_edits(&scene().layout, &findings);
        assert_eq!((selection.chosen.len(), selection.edits.len()), (2, 1));
        // Nothing is chosen of a remedy of words, or of one that finds no place.
        let findings =
            [finding(vec![Step::words("ask")]), finding(vec![Step::Edit(gone(map("/x")))])];
        let selection = select_edits(&Layout::default(), &findings);
        assert_eq!((selection.chosen.len(), selection.left.len()), (0, 2));
    }

    #[test]
    fn what_an_edit_clears_and_brings_about_is_told_by_ids() {
        let mut broken = Scene::local();
        broken.root("/media/flims");
        let before = check(&broken.site());
        let whole = Scene::local();
        let after = check(&whole.site());
        let outcome = compare_reports(&before, &after);
        assert_eq!(outcome.cleared.len(), 1);
        assert_eq!(outcome.cleared[0].rule.id, "path/missing");
        assert!(outcome.new.is_empty());
        let back = compare_reports(&after, &before);
        assert_eq!(back.new.len(), 1);
        assert_eq!((back.new[0].rule.id, back.cleared.len()), ("path/missing", 0));
        assert!(compare_reports(&before, &before).new.is_empty());
        // What is still to be done on a host is no news.
        let mut declared_otherwise = Scene::local();
        declared_otherwise.host("granary").groups[0].gid = 7;
        let after = check(&declared_otherwise.site());
        assert!(after.findings.iter().any(|f| f.rule.id == "layout/differs-from-host"));
        let sound = check(&whole.site());
        let new = compare_reports(&sound, &after).new;
        assert!(new.iter().all(|f| f.rule.id != "layout/differs-from-host"), "{new:?}");
    }

    #[test]
    fn what_a_cleared_blocker_kept_from_being_judged_is_not_brought_about() {
        let closed = |runs_as: RunAs| {
            let mut scene = Scene::local();
            scene.change("granary", "/loft/media/films", |meta| meta.mode = 0o700);
            scene.service("lantern").runs_as = runs_as;
            check(&scene.site())
        };
        let after = closed(RunAs::Numbers(840, Some(840)));
        for (before, is_brought_about) in [
            (closed(RunAs::Account("lantrn".into())), false),
            (check(&Scene::local().site()), true),
        ] {
            let new = compare_reports(&before, &after).new;
            assert!(new.iter().any(|finding| finding.rule.id == "access/root-unreadable"));
            assert_eq!(!brought_about(&before, &after).is_empty(), is_brought_about);
        }
        // What was known of the row is worse: that is the edit's doing, whatever it clears.
        let mut unmapped = Scene::local();
        unmapped.root("/elsewhere");
        let before = closed(RunAs::Account("lantrn".into()));
        let worse = check(&unmapped.site());
        let new = brought_about(&before, &worse).into_iter();
        let new: Vec<&str> = new.map(|finding| finding.rule.id).collect();
        assert!(new.contains(&"path/uncovered"), "{new:?}");
        // Nothing that blocked the row is cleared.
        let mut closed_root = Scene::local();
        closed_root.change("granary", "/loft/media/films", |meta| meta.mode = 0o700);
        closed_root.service("lantern").runs_as = RunAs::Account("lantrn".into());
        let mut before = check(&closed_root.site());
        before.findings.clear();
        assert!(!brought_about(&before, &after).is_empty());
    }
}
