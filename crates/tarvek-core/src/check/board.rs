//! The readiness board: how each library and each intake stands, stage by stage.

use crate::forecast::titles::Detail;
use crate::judge::access_check::judge;
use crate::layout::intake::Want;
use crate::link::intake::{Does, Stage, Step, ways_of};
use crate::link::verdict::Reason;
use crate::route::end::End;
use crate::rules::library::{too_deep, too_high};
use crate::scan::read::Scan;
use crate::site::join::Site;
use crate::used::used_path::{Use, UsedPath, end_of, of_library, rows as by_row};
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::terms::Kind;
use crate::words::text::counted;
use crate::words::word::words;

words! {
    /// How one stage of a row stands, the worst last.
    #[derive(PartialOrd, Ord)]
    pub enum State {
        /// In order.
        Ok = "ok",
        /// An earlier stage failed, so there is nothing to say.
        Skipped = "skipped",
        /// It can't be told.
        Unknown = "unknown",
        Part = "part",
        /// Not in order.
        Fail = "fail",
    }
}

/// The stages of a row, in their order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stages {
    /// A mapping covers the root.
    pub mapped: State,
    /// Every mount on the way is in place.
    pub mounted: State,
    /// The root is a folder that is there.
    pub exists: State,
    /// The service can read it and everything below; of an intake, the service can do its step
    /// there.
    pub readable: State,
    /// How many titles a scan would find, if that can be told; of an intake it never can.
    pub titles: Option<u64>,
    /// Of an intake, whether filing does what is wanted of it.
    pub linkable: Option<State>,
}

/// What a row of the board is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Subject {
    /// A library, and what it holds.
    Library(Kind),
    Intake,
}

/// One row of the board: one library, or one intake.
#[derive(Clone, Debug, PartialEq)]
pub struct Row {
    pub of: Subject,
    /// The service that serves the library; of an intake, the first that uses it.
    pub service: Name,
    /// Of the library or the intake.
    pub name: Name,
    /// How it stands.
    pub stages: Stages,
    /// In one line.
    pub verdict: String,
    /// Whether a scan started now would find what is meant; of an intake, whether each step can be
    /// done.
    pub ready: bool,
    /// Entries below the roots that were seen.
    pub entries: u64,
    /// Of those, the ones that the service can't read.
    pub unreadable: u64,
    /// The steps of an intake.
    pub steps: Vec<Step>,
}

/// Puts the places of each library and intake together into its row.
pub(super) fn rows(site: &Site, cases: &[UsedPath]) -> Vec<Row> {
    by_row(cases).map(|cases| row(site, cases)).collect()
}

/// The places of one library or intake, put together.
pub(super) fn row(site: &Site, roots: &[UsedPath]) -> Row {
    let first = &roots[0];
    let (of, name) = match first.used {
        Use::Library(library) => (Subject::Library(library.kind), &library.name),
        Use::Intake(intake, _) => (Subject::Intake, &intake.name),
    };
    let scans = || roots.iter().filter_map(|case| case.scan.as_ref());
    let each: Vec<(Stages, String)> = roots.iter().map(|case| stages(site, case)).collect();
    let worst = |stage: fn(&Stages) -> State| {
        each.iter().map(|(stages, _)| stage(stages)).max().expect("there is a place")
    };
    let told = each.iter().all(|(stages, _)| stages.titles.is_some());
    let titles = match roots {
        // What lies below two roots counts once.
        [_, _, ..] if told => Some(of_library(site, roots, Detail::Figures).titles),
        _ => each.iter().map(|(stages, _)| stages.titles).sum::<Option<u64>>(),
    };
    let filing = filing(site, first);
    let stages = Stages {
        mapped: worst(|s| s.mapped),
        mounted: worst(|s| s.mounted),
        exists: worst(|s| s.exists),
        readable: worst(|s| s.readable),
        titles,
        linkable: None,
    };
    let all_ok = [stages.mapped, stages.mounted, stages.exists, stages.readable]
        .iter()
        .all(|stage| *stage == State::Ok);
    let linkable = filing.as_ref().map(|(state, _)| if all_ok { *state } else { State::Skipped });
    let stages = Stages { linkable, ..stages };
    let filled = match of {
        Subject::Intake => linkable == Some(State::Ok),
        Subject::Library(_) => titles.is_some_and(|titles| titles > 0),
    };
    let misrooted = roots.iter().find_map(|case| misrooted(site, case));
    let ready = all_ok && filled && misrooted.is_none();
    // The first root that has something to say speaks for the library.
    let verdicts = || each.iter().map(|(_, verdict)| verdict);
    let worst = verdicts().find(|verdict| !verdict.starts_with("ready"));
    let verdict = worst.or_else(|| verdicts().find(|verdict| *verdict != "ready"));
    let filed = filing.as_ref().and_then(|(_, steps)| filed(steps));
    let verdict = match (verdict, misrooted) {
        (Some(verdict), None) => verdict.clone(),
        (Some(verdict), Some(_)) if !verdict.starts_with("ready") => verdict.clone(),
        (_, Some(misrooted)) => misrooted.to_owned(),
        (None, None) => filed.unwrap_or_else(|| "ready".to_owned()),
    };
    Row {
        of,
        service: first.service.name.clone(),
        name: name.clone(),
        stages,
        verdict,
        ready,
        entries: scans().map(|scan| scan.entries).sum(),
        unreadable: scans().map(|scan| scan.unreadable).sum(),
        steps: filing.map(|(_, steps)| steps).unwrap_or_default(),
    }
}

/// What keeps a scan of a root from finding what is meant, although all of it can be read.
fn misrooted(site: &Site, case: &UsedPath) -> Option<&'static str> {
    let any = |find: fn(&Site, &UsedPath) -> Vec<Finding>| !find(site, case).is_empty();
    if any(too_deep::find) {
        Some("the root is one title")
    } else if any(too_high::find) {
        Some("the root covers more than its kind")
    } else {
        None
    }
}

/// The steps of the intake that a case belongs to, and whether filing does what is wanted; `None`
/// for a library.
fn filing(site: &Site, case: &UsedPath) -> Option<(State, Vec<Step>)> {
    let Use::Intake(intake, _) = case.used else { return None };
    let steps = ways_of(site, intake).steps(site);
    // An intake that files nothing by itself has nothing to link.
    let Some(file) = steps.iter().find(|step| step.stage == Stage::File) else {
        return Some((State::Ok, steps));
    };
    let state = match (intake.want, file.does) {
        (_, Does::Unknown) => State::Unknown,
        (Want::Hardlink, Does::Links) | (Want::Rename, Does::Moves) => State::Ok,
        (Want::Copy, Does::Copies) => State::Ok,
        _ => State::Fail,
    };
    Some((state, steps))
}

/// What filing comes to, in a line.
fn filed(steps: &[Step]) -> Option<String> {
    let file = steps.iter().find(|step| step.stage == Stage::File)?;
    let twice = steps.iter().any(|step| step.stage == Stage::Finish && step.does == Does::Copies);
    let link = &file.link;
    let why = || match link.reason {
        Reason::Ok => String::new(),
        reason => format!(": {}", reason.word()),
    };
    Some(match file.does {
        Does::Links if twice => "linked, though finishing copies".to_owned(),
        Does::Links => return None,
        Does::Moves if link.is_possible() => return None,
        Does::Moves => format!("moved, not linked{}", why()),
        Does::Copies if link.is_possible() => return None,
        Does::Copies => format!("copied{}", why()),
        Does::Fails => format!("can't be filed{}", why()),
        Does::Unknown => format!("not known whether it links: {}", link.detail),
    })
}

/// Whether an intake's way ends in a folder.
fn is_intakes_folder(site: &Site, case: &UsedPath) -> bool {
    let end = case.route.as_ref().and_then(|route| end_of(site, route));
    case.library().is_none() && end.is_some_and(|(_, meta)| meta.is_folder())
}

fn stages(site: &Site, case: &UsedPath) -> (Stages, String) {
    use State::{Fail, Ok, Part, Skipped, Unknown};
    let mut stages = Stages {
        mapped: Ok,
        mounted: Ok,
        exists: Ok,
        readable: Skipped,
        titles: case.library().map(|_| 0),
        linkable: None,
    };
    let Some(route) = &case.route else {
        stages = Stages { mapped: Fail, mounted: Skipped, exists: Skipped, ..stages };
        let fault = case.root.path.as_ref().err().map(ToString::to_string).unwrap_or_default();
        return (stages, format!("{} {fault}", case.root.written));
    };
    if let End::Uncovered { .. } = route.end {
        stages = Stages { mapped: Fail, mounted: Skipped, exists: Skipped, ..stages };
        return (stages, format!("no mapping covers {}", route.asked));
    }
    let absent = route.not_mounted.first();
    if absent.is_some() {
        stages.mounted = Fail;
    } else if route.entry().is_none()
        && !route.is_engine_made()
        && !matches!(route.end, End::Missing(_) | End::NotAFolder { .. } | End::NotAdmitted { .. })
    {
        stages.mounted = if route.evidence() == Evidence::Observed { Ok } else { Unknown };
    }
    let fails = |stages: Stages, verdict: String| match absent {
        Some(absent) => {
            let stages = Stages { exists: Skipped, ..stages };
            (stages, format!("{} is not mounted", absent.at.path))
        }
        None => (stages, verdict),
    };
    let unknown = |stages: Stages, verdict: String| {
        (Stages { exists: Unknown, readable: Unknown, titles: None, ..stages }, verdict)
    };
    match &route.end {
        End::Reached if case.scan.is_some() => {}
        End::Reached if route.entry().is_none() && !route.is_engine_made() => {
            return unknown(stages, format!("nobody has looked at {}", route.here().host));
        }
        End::Reached if is_intakes_folder(site, case) => {}
        End::Reached => {
            return fails(
                Stages { exists: Fail, ..stages },
                format!("{} is not a folder", route.asked),
            );
        }
        End::Volume { name } => {
            let verdict = format!("lies in the engine's volume {name}");
            return unknown(stages, verdict);
        }
        End::Unseen { at, .. } => return unknown(stages, format!("{} was not seen", at.path)),
        End::Missing(m) => {
            let verdict = match &m.other_case {
                Some(other) => format!("it is spelled {other:?}"),
                None => format!("{} is missing in {}", m.name, m.folder.path),
            };
            return fails(Stages { exists: Fail, ..stages }, verdict);
        }
        End::NotAdmitted { why, .. } => {
            return fails(Stages { exists: Unknown, readable: Fail, ..stages }, why.clone());
        }
        end => return fails(Stages { exists: Fail, ..stages }, end.words()),
    }
    let answer = judge(site, route, case.need());
    let whole = Scan::default();
    let scan = case.scan.as_ref().unwrap_or(&whole);
    match answer.allowed() {
        Some(false) => {
            stages.readable = Fail;
            let verdict = format!("refused at {}", answer.decided_at.path);
            return fails(stages, verdict);
        }
        None => return unknown(stages, answer.reason().to_owned()),
        Some(true) if scan.unreadable > 0 => stages.readable = Part,
        Some(true) if scan.unseen > 0 => stages.readable = Unknown,
        Some(true) => stages.readable = Ok,
    }
    let titles = case.forecast.as_ref().map_or(0, |forecast| forecast.titles);
    let told = case.library().is_some() && (scan.unseen == 0 || titles > 0);
    stages.titles = told.then_some(titles);
    let verdict = if let Some(absent) = absent {
        format!("{} is not mounted; this is what lies beneath", absent.at.path)
    } else if scan.unreadable > 0 {
        format!("{} of {} can't be read", scan.unreadable, counted(scan.entries, "entry"))
    } else if scan.unseen > 0 {
        format!("{} could not be looked into", counted(scan.unseen, "folder"))
    } else if let (0, 1.., Some(library)) = (titles, scan.files(), case.library()) {
        format!("no name of kind {} is recognised in it", library.kind.word())
    } else if let (0, Some(library)) = (titles, case.library()) {
        format!("nothing of kind {} in it", library.kind.word())
    } else if let Some(unread @ 1..) = case.forecast.as_ref().map(|forecast| forecast.unrecognised)
    {
        match unread {
            1 => "ready, though 1 file is not recognised".to_owned(),
            count => format!("ready, though {count} files are not recognised"),
        }
    } else if scan.broken_links > 0 {
        let (leads, links) = match scan.broken_links {
            1 => ("leads", "symlink"),
            _ => ("lead", "symlinks"),
        };
        format!("ready, though {} {links} {leads} nowhere", scan.broken_links)
    } else {
        "ready".to_owned()
    };
    (stages, verdict)
}

#[cfg(test)]
mod tests {
    use super::{State, Subject};
    use crate::check::report::check;
    use crate::layout::intake::InView;
    use crate::layout::mapping::MapSource;
    use crate::tests::{Scene, abs, mapping, mounts};
    use crate::words::about::Affected;
    use crate::words::terms::Access;

    /// The stages of the intake's row, whether it is ready, and the rules that stand in its way.
    fn intake(scene: &Scene) -> (String, bool, Vec<&'static str>) {
        let report = check(&scene.site());
        let row = report.board.iter().find(|row| row.of == Subject::Intake).unwrap();
        let stages =
            [row.stages.mapped, row.stages.mounted, row.stages.exists, row.stages.readable];
        let sign = |state: State| match state {
            State::Ok => '+',
            State::Fail => '-',
            State::Unknown => '?',
            _ => '.',
        };
        let affected = Affected::Intake("films".into());
        let rules = report.findings.iter().filter(|finding| finding.affects.contains(&affected));
        let rules = rules.map(|finding| finding.rule.id).collect();
        (stages.map(sign).iter().collect(), row.ready, rules)
    }

    #[test]
    fn an_intake_is_ready_if_each_of_its_folders_is() {
        let scene = || Scene::local().with_intake();
        assert_eq!(intake(&scene()), ("++++".to_owned(), true, vec![]));
        for gone in ["partial", "done"] {
            let mut scene = scene();
            scene.without("granary", &format!("/loft/media/intake/{gone}"));
            assert_eq!(intake(&scene), ("++-.".to_owned(), false, vec!["path/missing"]), "{gone}");
        }
        let mut filed = scene();
        filed.layout.intakes[0].sort.as_mut().unwrap().files_into = InView::of(abs("/data/flims"));
        assert_eq!(intake(&filed), ("++-.".to_owned(), false, vec!["path/missing"]));
        let mut cased = scene();
        cased.layout.intakes[0].sort.as_mut().unwrap().files_into = InView::of(abs("/data/Films"));
        assert_eq!(intake(&cased), ("++-.".to_owned(), false, vec!["path/case"]));
        let mut uncovered = scene();
        let outside = InView::of(abs("/downloads/done"));
        uncovered.layout.intakes[0].fetch.as_mut().unwrap().done = outside;
        let (stages, ready, rules) = intake(&uncovered);
        assert!(
            stages.starts_with('-') && !ready && rules.contains(&"path/uncovered"),
            "{stages} {rules:?}"
        );
        let mut kept = scene();
        let mut volume = mapping("/x", "/data/intake", Access::ReadWrite);
        volume.source = MapSource::Volume("kept".into());
        kept.service("drover").map.as_mut().unwrap().push(volume);
        let (stages, ready, _) = intake(&kept);
        assert!(stages.ends_with("??") && !ready, "nobody looked into the volume: {stages}");
        let mut absent = scene();
        absent.layout.mounts.push(crate::tests::mount(
            "granary",
            "media",
            crate::words::terms::Protocol::Nfs,
            "/loft/media/intake",
        ));
        absent.facts("granary").mounts = Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw"));
        let (stages, ready, rules) = intake(&absent);
        assert!(
            stages.starts_with("+-") && !ready && rules.contains(&"mount/not-mounted"),
            "{stages} {rules:?}"
        );
    }
}
