//! The readiness board: how each library and each intake stands, stage by stage.

use std::fmt;

use crate::forecast::titles::Detail;
use crate::judge::access_check::judge;
use crate::layout::intake::Want;
use crate::link::intake::{Does, Stage, Step, ways_of};
use crate::link::verdict::Reason;
use crate::route::end::End;
use crate::route::hops::Route;
use crate::rules::library::{nothing_found, too_deep, too_high};
use crate::scan::read::Scan;
use crate::site::join::Site;
use crate::used::used_path::{Use, UsedPath, end_of, of_library, rows as by_row, unseen_mount};
use crate::words::about::Affected;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::rule::Severity;
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
        /// Nobody looked.
        Unseen = "unseen",
        /// It was looked at, and can't be told.
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

/// What a row comes to, in one line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    Ready,
    /// Nothing is in the way, and this is worth knowing.
    ReadyThough(String),
    /// This is in the way, or keeps it from being known.
    NotReady(String),
}

impl Verdict {
    fn is_ready(&self) -> bool {
        !matches!(self, Self::NotReady(_))
    }
}

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Ready => f.write_str("ready"),
            Self::ReadyThough(text) | Self::NotReady(text) => f.write_str(text),
        }
    }
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
    pub verdict: Verdict,
    /// Whether a scan started now would find what is meant; of an intake, whether each step can be
    /// done.
    pub ready: bool,
    /// How it is known: the weakest evidence of its stages.
    pub evidence: Evidence,
    /// Entries below the roots that were seen.
    pub entries: u64,
    /// Of those, the ones that the service can't read.
    pub unreadable: u64,
    /// The steps of an intake.
    pub steps: Vec<Step>,
}

impl Row {
    /// What it is about, as findings name it.
    pub fn affected(&self) -> Affected {
        match self.of {
            Subject::Library(_) => Affected::Library(self.name.clone()),
            Subject::Intake => Affected::Intake(self.name.clone()),
        }
    }

    /// A row that a blocker affects is not ready, whatever its stages say.
    pub(super) fn yield_to(&mut self, findings: &[Finding]) {
        let own = self.affected();
        let blocks = |f: &&Finding| f.severity == Severity::Blocker && f.affects.contains(&own);
        if self.ready
            && let Some(blocker) = findings.iter().find(blocks)
        {
            self.ready = false;
            self.verdict = Verdict::NotReady(format!("blocked by {}", blocker.rule.id));
        }
    }

    /// Whether it differs from an earlier row only where that could not be told: what was told still
    /// holds, and something was not.
    pub fn only_tells_more_than(&self, earlier: &Self) -> bool {
        let all = |row: &Self| {
            let Stages { mapped, mounted, exists, readable, .. } = row.stages;
            [mapped, mounted, exists, readable]
        };
        let was_open = |was: State| matches!(was, State::Unknown | State::Unseen);
        let may_tell = |was: State| was_open(was) || was == State::Skipped;
        let pairs = || all(earlier).into_iter().zip(all(self));
        pairs().any(|(was, _)| was_open(was)) && pairs().all(|(was, is)| may_tell(was) || was == is)
    }
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
    let each: Vec<(Stages, Verdict)> = roots.iter().map(|case| stages(site, case)).collect();
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
        Subject::Library(_) => {
            titles.is_some_and(|titles| titles > 0)
                || roots.iter().all(|case| nothing_found::is_new(site, case))
        }
    };
    let misrooted = roots.iter().find_map(|case| misrooted(site, case));
    let evidence = roots.iter().map(|case| evidence(site, case)).min();
    let ready = all_ok && filled && misrooted.is_none();
    // The first root that has something to say speaks for the library.
    let verdicts = || each.iter().map(|(_, verdict)| verdict);
    let verdict = verdicts()
        .find(|verdict| !verdict.is_ready())
        .cloned()
        .or_else(|| misrooted.map(|why| Verdict::NotReady(why.to_owned())))
        .or_else(|| verdicts().find(|verdict| **verdict != Verdict::Ready).cloned())
        .or_else(|| filing.as_ref().and_then(|(state, steps)| filed(*state, steps)))
        .unwrap_or(Verdict::Ready);
    Row {
        of,
        service: first.service.name.clone(),
        name: name.clone(),
        stages,
        verdict,
        ready,
        evidence: evidence.expect("there is a place"),
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

/// What filing comes to, if it is not simply what is wanted.
fn filed(state: State, steps: &[Step]) -> Option<Verdict> {
    let file = steps.iter().find(|step| step.stage == Stage::File)?;
    let twice = steps.iter().any(|step| step.stage == Stage::Finish && step.does == Does::Copies);
    let link = &file.link;
    let why = || match link.reason {
        Reason::Ok => String::new(),
        reason => format!(": {}", reason.word()),
    };
    let text = match file.does {
        Does::Links if twice => "linked, though finishing copies".to_owned(),
        Does::Links => return None,
        Does::Moves | Does::Copies if link.is_possible() => return None,
        Does::Moves => format!("moved, not linked{}", why()),
        Does::Copies => format!("copied{}", why()),
        Does::Fails => format!("can't be filed{}", why()),
        Does::Unknown => format!("not known whether it links: {}", link.detail),
    };
    Some(if state == State::Ok { Verdict::ReadyThough(text) } else { Verdict::NotReady(text) })
}

/// Whether a way ends in a folder that was seen, or that the engine makes.
fn ends_in_folder(site: &Site, route: &Route) -> bool {
    end_of(site, route).map_or(route.is_engine_made(), |(_, meta)| meta.is_folder())
}

/// Why a root is not a folder that can be asked for its contents.
enum Obstacle {
    /// It is not there, or something else is.
    Absent(String),
    /// The server does not let the service in.
    NotAdmitted(String),
    /// Nobody looked there.
    Unseen(String),
}

fn obstacle(site: &Site, route: &Route) -> Option<Obstacle> {
    let is_unseen = route.entry().is_none() && !route.is_engine_made();
    Some(match &route.end {
        End::Reached if is_unseen => {
            Obstacle::Unseen(format!("{} has not been surveyed", route.here().host))
        }
        End::Reached if ends_in_folder(site, route) => return None,
        End::Reached => Obstacle::Absent(format!("{} is not a folder", route.asked)),
        End::Volume { name } => Obstacle::Unseen(format!("lies in the engine's volume {name}")),
        End::Unseen { at, .. } => Obstacle::Unseen(format!("{} was not seen", at.path)),
        End::Missing(missing) => Obstacle::Absent(match &missing.other_case {
            Some(other) => format!("it is spelled {other:?}"),
            None => format!("{} is missing in {}", missing.name, missing.folder.path),
        }),
        End::NotAdmitted { why, .. } => Obstacle::NotAdmitted(why.clone()),
        end => Obstacle::Absent(end.words()),
    })
}

/// Whether every mount on the way is in place.
fn mounted(site: &Site, route: &Route) -> State {
    let is_seen = match route.end {
        End::Reached => route.entry().is_some() || route.is_engine_made(),
        End::Unseen { .. } | End::Volume { .. } => false,
        _ => true,
    };
    if !route.not_mounted.is_empty() {
        State::Fail
    } else if is_seen && unseen_mount(site, route).is_none() {
        State::Ok
    } else {
        State::Unseen
    }
}

/// The weakest evidence that the stages of a root rest on.
fn evidence(site: &Site, case: &UsedPath) -> Evidence {
    let Some(route) = &case.route else { return Evidence::Declared };
    match unseen_mount(site, route) {
        Some(_) => Evidence::Declared,
        None => route.evidence(),
    }
}

fn stages(site: &Site, case: &UsedPath) -> (Stages, Verdict) {
    use State::{Fail, Ok, Part, Skipped, Unknown, Unseen};
    let titles = case.library().map(|_| 0);
    let unmapped = |why: String| {
        let (mapped, mounted, exists, readable) = (Fail, Skipped, Skipped, Skipped);
        let stages = Stages { mapped, mounted, exists, readable, titles, linkable: None };
        (stages, Verdict::NotReady(why))
    };
    let Some(route) = &case.route else {
        let fault = case.root.path.as_ref().err().map(ToString::to_string).unwrap_or_default();
        return unmapped(format!("{} {fault}", case.root.written));
    };
    if let End::Uncovered { .. } = route.end {
        return unmapped(format!("no mapping covers {}", route.asked));
    }
    let mounted = mounted(site, route);
    let stages =
        Stages { mapped: Ok, mounted, exists: Ok, readable: Skipped, titles, linkable: None };
    let absent = route.not_mounted.first();
    let fails = |stages: Stages, verdict: String| match absent {
        Some(absent) => {
            let verdict = format!("{} is not mounted", absent.at.path);
            (Stages { exists: Skipped, ..stages }, Verdict::NotReady(verdict))
        }
        None => (stages, Verdict::NotReady(verdict)),
    };
    let unseen = |verdict: String| {
        let stages = Stages { exists: Unseen, readable: Unseen, titles: None, ..stages };
        (stages, Verdict::NotReady(verdict))
    };
    match obstacle(site, route) {
        None => {}
        Some(Obstacle::Unseen(why)) => return unseen(why),
        Some(Obstacle::Absent(why)) => return fails(Stages { exists: Fail, ..stages }, why),
        Some(Obstacle::NotAdmitted(why)) => {
            return fails(Stages { exists: Unknown, readable: Fail, ..stages }, why);
        }
    }
    let answer = judge(site, route, case.need());
    let whole = Scan::default();
    let scan = case.scan.as_ref().unwrap_or(&whole);
    let readable = match answer.allowed() {
        Some(false) => {
            let verdict = format!("refused at {}", answer.decided_at.path);
            return fails(Stages { readable: Fail, ..stages }, verdict);
        }
        None => {
            let stages = Stages { readable: Unknown, titles: None, ..stages };
            return (stages, Verdict::NotReady(answer.reason().to_owned()));
        }
        Some(true) if scan.unsettled.is_some() => Unknown,
        Some(true) if scan.unreadable > 0 => Part,
        Some(true) if scan.unseen > 0 => Unknown,
        Some(true) => Ok,
    };
    let titles = case.forecast.as_ref().map_or(0, |forecast| forecast.titles);
    let is_told =
        case.library().is_some() && scan.unsettled.is_none() && (scan.unseen == 0 || titles > 0);
    let stages = Stages { readable, titles: is_told.then_some(titles), ..stages };
    let verdict = match absent {
        Some(absent) => Verdict::NotReady(format!(
            "{} is not mounted; this is what lies beneath",
            absent.at.path
        )),
        None if nothing_found::is_new(site, case) => {
            Verdict::ReadyThough("ready, though nothing is in it yet".to_owned())
        }
        None => match unseen_mount(site, route) {
            Some(hop) => Verdict::NotReady(format!(
                "the mounts of {} have not been surveyed: the one behind {} is only declared",
                hop.from.host, hop.from.path
            )),
            None => of_contents(case, scan, titles),
        },
    };
    (stages, verdict)
}

/// What the contents of a root that can be read come to.
fn of_contents(case: &UsedPath, scan: &Scan, titles: u64) -> Verdict {
    let unrecognised = case.forecast.as_ref().map_or(0, |forecast| forecast.unrecognised);
    if let Some(why) = &scan.unsettled {
        Verdict::NotReady(why.clone())
    } else if scan.unreadable > 0 {
        let entries = counted(scan.entries, "entry");
        Verdict::NotReady(format!("{} of {entries} can't be read", scan.unreadable))
    } else if scan.unseen > 0 {
        Verdict::NotReady(format!("{} could not be looked into", counted(scan.unseen, "folder")))
    } else if let (0, Some(library)) = (titles, case.library()) {
        let kind = library.kind.word();
        Verdict::NotReady(match scan.files() {
            0 => format!("nothing of kind {kind} in it"),
            _ => format!("no name of kind {kind} is recognised in it"),
        })
    } else if unrecognised > 0 {
        let is = if unrecognised == 1 { "is" } else { "are" };
        let files = counted(unrecognised, "file");
        Verdict::ReadyThough(format!("ready, though {files} {is} not recognised"))
    } else if scan.broken_links > 0 {
        let leads = if scan.broken_links == 1 { "leads" } else { "lead" };
        let links = counted(scan.broken_links, "symlink");
        Verdict::ReadyThough(format!("ready, though {links} {leads} nowhere"))
    } else {
        Verdict::Ready
    }
}

#[cfg(test)]
mod tests {
    use super::{Row, State, Subject};
    use crate::check::report::check;
    use crate::kernel::entry::EntryKind;
    use crate::layout::intake::{InView, Want};
    use crate::layout::mapping::MapSource;
    use crate::layout::service::{Library, RunAs};
    use crate::tests::{Alter, Scene, abs, declared, hold, mapping, mount, mounts};
    use crate::words::about::Affected;
    use crate::words::terms::{Access, Kind, Protocol};

    const FILM: &str = "/loft/media/films/Low Water (2003)/Low Water (2003).mkv";

    /// A row in one line: the signs of its stages, titles or what linking comes to, whether it is
    /// ready, and its verdict.
    fn line(row: &Row) -> String {
        let stages = &row.stages;
        let sign = |state: State| match state {
            State::Ok => '+',
            State::Part => '/',
            State::Fail => '-',
            State::Unknown => '?',
            State::Unseen => 'u',
            State::Skipped => '.',
        };
        let signs = [stages.mapped, stages.mounted, stages.exists, stages.readable].map(sign);
        let last = match (row.of, stages.linkable, stages.titles) {
            (Subject::Library(_), None, Some(titles)) => titles.to_string(),
            (Subject::Library(_), None, None) => "?".to_owned(),
            (Subject::Intake, Some(state), None) => sign(state).to_string(),
            other => panic!("{other:?}"),
        };
        let ready = if row.ready { "ready" } else { "not ready" };
        format!("{} {last} {ready}: {}", signs.iter().collect::<String>(), row.verdict)
    }

    fn library(scene: &Scene) -> String {
        line(&check(&scene.site()).board[0])
    }

    fn intake(scene: &Scene) -> String {
        line(check(&scene.site()).board.iter().find(|row| row.of == Subject::Intake).unwrap())
    }

    /// For changes that hand the scene back.
    fn done(_: &mut Scene) {}

    /// A name below the films.
    fn among_films(scene: &mut Scene, line: &str, name: &str) {
        scene.tree("granary", &format!("{line} /loft/media/films/{name}"));
    }

    /// What root and what nobody could, where nobody says which of them it is.
    #[test]
    fn an_undeclared_account_is_ready_only_where_root_and_nobody_get_the_same() {
        let unset = |change: Alter| {
            let mut scene = Scene::local();
            scene.service("lantern").runs_as = RunAs::Unset;
            change(&mut scene);
            library(&scene)
        };
        assert_eq!(unset(|_| {}), "++++ 1 ready: ready");
        assert_eq!(
            unset(|scene| among_films(scene, "f 0640 840:840", "Private (2004).mkv")),
            "+++? ? not ready: runs_as of lantern is not declared: root could read all of 3 \
             entries, and nobody (uid 65534) could not read 1 of 3 entries"
        );
        let shut = unset(|scene| done(scene.tree("granary", "d 0750 840:840 /loft/media/films")));
        assert!(
            shut.starts_with(
                "+++? ? not ready: runs_as of lantern is not declared: root could \
                 (CAP_DAC_READ_SEARCH), "
            ) && shut.contains(
                ", and nobody (uid 65534) could not (other::--- does not let 65534:65534 enter it"
            ),
            "{shut}"
        );
        // Whoever it is, it is refused.
        let flat = unset(|scene| done(scene.root("/media/nothing")));
        assert_eq!(flat, "++-. 0 not ready: nothing is missing in /loft/media");
    }

    #[test]
    fn a_library_stands_as_far_as_its_root_leads() {
        let cases: &[(Alter, &str)] = &[
            (|_| {}, "++++ 1 ready: ready"),
            (
                |scene| done(scene.root("media/films")),
                "-... 0 not ready: media/films is not absolute",
            ),
            (
                |scene| done(scene.root("/loft/media/films")),
                "-... 0 not ready: no mapping covers /loft/media/films",
            ),
            (
                |scene| done(scene.root("/media/flims")),
                "++-. 0 not ready: flims is missing in /loft/media",
            ),
            (|scene| done(scene.root("/media/Films")), "++-. 0 not ready: it is spelled \"films\""),
            (
                |scene| done(scene.root("/media/films/Low Water (2003)/Low Water (2003).mkv")),
                "++-. 0 not ready: /media/films/Low Water (2003)/Low Water (2003).mkv is not a \
                 folder",
            ),
            (
                |scene| done(scene.root("/media/films/Low Water (2003)/Low Water (2003).mkv/x")),
                "++-. 0 not ready: /loft/media/films/Low Water (2003)/Low Water (2003).mkv is a \
                 file, not a folder",
            ),
            (
                |scene| {
                    done(scene.tree("granary", "l 0777 0:0 /loft/media/a -> a").root("/media/a"))
                },
                "++-. 0 not ready: more than 40 symlinks: they loop",
            ),
            (
                |scene| done(scene.unseen("granary")),
                "+uuu ? not ready: granary has not been surveyed",
            ),
            (|scene| done(scene.unread("granary", "/loft/media")), "++++ 1 ready: ready"),
            (
                |scene| {
                    let mut volume = mapping("/x", "/media/films", Access::ReadOnly);
                    volume.source = MapSource::Volume("kept".into());
                    scene.service("lantern").map.as_mut().unwrap().push(volume);
                },
                "+uuu ? not ready: lies in the engine's volume kept",
            ),
            (|scene| done(scene.root("/")), "-... 0 not ready: no mapping covers /"),
            (
                |scene| {
                    done(scene.change("granary", "/loft/media/films", |meta| meta.mode = 0o700))
                },
                "+++- 0 not ready: refused at /loft/media/films",
            ),
            (
                |scene| done(scene.change("granary", "/loft/media", |meta| meta.mode = 0o700)),
                "+++- 0 not ready: refused at /loft/media",
            ),
        ];
        hold(Scene::local, library, cases);
    }

    #[test]
    fn a_library_comes_to_what_can_be_read_and_is_recognised() {
        let cases: &[(Alter, &str)] = &[
            (
                |scene| done(scene.change("granary", FILM, |meta| meta.mode = 0o600)),
                "+++/ 0 not ready: 1 of 2 entries can't be read",
            ),
            (
                |scene| done(scene.unread("granary", "/loft/media/films/Low Water (2003)")),
                "+++? 1 not ready: 1 folder could not be looked into",
            ),
            (
                |scene| {
                    scene.unread("granary", "/loft/media/films/Low Water (2003)");
                    among_films(scene, "f 0644 0:0", "High Water (2004)/High Water (2004).mkv");
                },
                "+++? 2 not ready: 1 folder could not be looked into",
            ),
            (
                |scene| {
                    scene.unread("granary", "/loft/media/films/Low Water (2003)");
                    among_films(scene, "f 0600 0:0", "High Water (2004)/High Water (2004).mkv");
                },
                "+++/ 1 not ready: 1 of 4 entries can't be read",
            ),
            (
                |scene| done(scene.without("granary", "/loft/media/films/Low Water (2003)")),
                "++++ 0 not ready: nothing of kind films in it",
            ),
            (
                |scene| {
                    scene.without("granary", "/loft/media/films/Low Water (2003)");
                    among_films(scene, "f 0644 0:0", "S01E01.mkv");
                },
                "++++ 0 not ready: no name of kind films is recognised in it",
            ),
            (
                |scene| among_films(scene, "f 0644 0:0", "S01E01.mkv"),
                "++++ 1 ready: ready, though 1 file is not recognised",
            ),
            (
                |scene| {
                    among_films(scene, "f 0644 0:0", "S01E01.mkv");
                    among_films(scene, "f 0644 0:0", "S01E02.mkv");
                },
                "++++ 1 ready: ready, though 2 files are not recognised",
            ),
            (
                |scene| among_films(scene, "l 0777 0:0", "gone -> /nowhere"),
                "++++ 1 ready: ready, though 1 symlink leads nowhere",
            ),
            (
                |scene| {
                    among_films(scene, "l 0777 0:0", "gone -> /nowhere");
                    among_films(scene, "l 0777 0:0", "lost -> /nowhere");
                },
                "++++ 1 ready: ready, though 2 symlinks lead nowhere",
            ),
            (
                |scene| done(scene.root("/media/films/Low Water (2003)")),
                "++++ 1 not ready: the root is one title",
            ),
            (
                |scene| {
                    scene.tree("granary", "f 0644 0:0 /loft/media/music/A/B/01 C.flac");
                    scene.root("/media");
                },
                "++++ 1 not ready: the root covers more than its kind",
            ),
        ];
        hold(Scene::local, library, cases);
    }

    fn no_mount(scene: &mut Scene) {
        scene.facts("millrace").mounts = Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw"));
    }

    #[test]
    fn a_mount_on_the_way_is_in_place_or_nothing_else_counts() {
        let cases: &[(Alter, &str)] = &[
            (|_| {}, "++++ 1 ready: ready"),
            (no_mount, "+-.. 0 not ready: /mnt/media is not mounted"),
            (
                |scene| {
                    no_mount(scene);
                    scene.tree("millrace", "f 0644 0:0 /mnt/media/films/A (2001)/A (2001).mkv");
                },
                "+-++ 1 not ready: /mnt/media is not mounted; this is what lies beneath",
            ),
            (
                |scene| {
                    no_mount(scene);
                    scene.tree("millrace", "d 0700 0:0 /mnt/media/films");
                },
                "+-.- 0 not ready: /mnt/media is not mounted",
            ),
            (
                |scene| done(scene.unseen("granary")),
                "++-. 0 not ready: films is missing in /mnt/media",
            ),
            (
                |scene| done(scene.unseen("granary").unseen("millrace")),
                "+uuu ? not ready: granary has not been surveyed",
            ),
            (
                |scene| scene.facts("millrace").mounts = None,
                "+u++ 1 not ready: the mounts of millrace have not been surveyed: the one behind \
                 /mnt/media/films is only declared",
            ),
            (
                |scene| scene.layout.shares[0].nfs[0].clients = "10.99.0.0/16".into(),
                "++++ 1 not ready: blocked by share/not-offered",
            ),
            (
                |scene| done(scene.root("/media/flims")),
                "++-. 0 not ready: flims is missing in /loft/media",
            ),
        ];
        hold(|| Scene::over(Protocol::Nfs), library, cases);
    }

    #[test]
    fn several_roots_are_one_row() {
        fn second(scene: &mut Scene, path: &str) {
            scene.service("lantern").libraries[0].roots.push(declared(path));
        }
        let cases: &[(Alter, &str)] = &[
            (
                |scene| {
                    scene.tree("granary", "f 0644 0:0 /loft/media/more/A (2001)/A (2001).mkv");
                    second(scene, "/media/more");
                },
                "++++ 2 ready: ready",
            ),
            (|scene| second(scene, "/media/films"), "++++ 1 ready: ready"),
            (
                |scene| second(scene, "/media/flims"),
                "++-. 1 not ready: flims is missing in /loft/media",
            ),
            (
                |scene| {
                    scene
                        .tree("granary", "d 0755 0:0 /loft/media/more")
                        .unread("granary", "/loft/media/more");
                    second(scene, "/media/more");
                },
                "+++? ? not ready: 1 folder could not be looked into",
            ),
            (
                |scene| {
                    among_films(scene, "f 0644 0:0", "S01E01.mkv");
                    scene.tree("granary", "f 0600 0:0 /loft/media/more/A (2001)/A (2001).mkv");
                    second(scene, "/media/more");
                },
                "+++/ 1 not ready: 1 of 2 entries can't be read",
            ),
        ];
        hold(Scene::local, library, cases);
    }

    #[test]
    fn rows_count_what_was_seen_and_name_who_serves() {
        let mut scene = Scene::local().with_intake();
        scene.tree("granary", "f 0600 0:0 /loft/media/more/A (2001)/A (2001).mkv");
        let Library { roots, .. } = &mut scene.service("lantern").libraries[0];
        roots.push(declared("/media/more"));
        let board = check(&scene.site()).board;
        let [films, intake] = &board[..] else { panic!("{board:?}") };
        assert_eq!(
            (films.of, films.entries, films.unreadable),
            (Subject::Library(Kind::Films), 4, 1)
        );
        assert_eq!((films.service.raw(), films.name.raw()), ("lantern", "Films"));
        assert_eq!((intake.service.raw(), intake.name.raw()), ("drover", "films"));
        assert!(films.steps.is_empty() && intake.steps.len() == 2, "{:?}", intake.steps);
    }

    #[test]
    fn an_intake_is_ready_if_each_of_its_folders_is_and_filing_does_what_is_wanted() {
        fn sort(scene: &mut Scene) -> &mut crate::layout::intake::Sort {
            scene.layout.intakes[0].sort.as_mut().unwrap()
        }
        fn other_filesystem(scene: &mut Scene) {
            let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft xfs /dev/sdb1 rw\n\
                         3 2 8:3 / /loft/media/intake xfs /dev/sdc1 rw";
            scene.facts("granary").mounts = Some(mounts(table));
        }
        fn partial_elsewhere(scene: &mut Scene) {
            let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft xfs /dev/sdb1 rw\n\
                         3 2 8:3 / /loft/media/intake/partial xfs /dev/sdc1 rw";
            scene.facts("granary").mounts = Some(mounts(table));
        }
        let cases: &[(Alter, &str)] = &[
            (|_| {}, "++++ + ready: ready"),
            (
                |scene| done(scene.without("granary", "/loft/media/intake/partial")),
                "++-. . not ready: partial is missing in /loft/media/intake",
            ),
            (
                |scene| done(scene.without("granary", "/loft/media/intake/done")),
                "++-. . not ready: done is missing in /loft/media/intake",
            ),
            (
                |scene| sort(scene).files_into = InView::of(abs("/data/flims")),
                "++-. . not ready: flims is missing in /loft/media",
            ),
            (
                |scene| sort(scene).files_into = InView::of(abs("/data/Films")),
                "++-. . not ready: it is spelled \"films\"",
            ),
            (
                |scene| {
                    let outside = InView::of(abs("/downloads/done"));
                    scene.layout.intakes[0].fetch.as_mut().unwrap().done = outside;
                },
                "-... . not ready: no mapping covers /downloads/done",
            ),
            (
                |scene| {
                    let mut volume = mapping("/x", "/data/intake", Access::ReadWrite);
                    volume.source = MapSource::Volume("kept".into());
                    scene.service("drover").map.as_mut().unwrap().push(volume);
                },
                "+uuu . not ready: lies in the engine's volume kept",
            ),
            (
                |scene| {
                    let inner = mount("granary", "media", Protocol::Nfs, "/loft/media/intake");
                    scene.layout.mounts.push(inner);
                    scene.facts("granary").mounts = Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw"));
                },
                "+-++ . not ready: /loft/media/intake is not mounted; this is what lies beneath",
            ),
            (
                |scene| {
                    let done = "/loft/media/intake/done";
                    scene.change("granary", done, |meta| meta.kind = EntryKind::File);
                },
                "++-. . not ready: /data/intake/done is not a folder",
            ),
            (|scene| scene.layout.intakes[0].sort = None, "++++ + ready: ready"),
            (other_filesystem, "++++ - not ready: copied: different-filesystem"),
            (
                |scene| {
                    other_filesystem(scene);
                    scene.layout.intakes[0].want = Want::Copy;
                },
                "++++ + ready: copied: different-filesystem",
            ),
            (
                |scene| {
                    other_filesystem(scene);
                    scene.layout.intakes[0].want = Want::Rename;
                },
                "++++ - not ready: copied: different-filesystem",
            ),
            (|scene| scene.layout.intakes[0].want = Want::Copy, "++++ + ready: ready"),
            (|scene| scene.layout.intakes[0].want = Want::Rename, "++++ + ready: ready"),
            (partial_elsewhere, "++++ + ready: linked, though finishing copies"),
            (
                |scene| scene.facts("granary").mounts = None,
                "++++ ? not ready: not known whether it links: whether both lie on one filesystem \
                 was not seen: nobody looked at the mounts of granary, and the layout declares no \
                 dataset there",
            ),
            (
                |scene| {
                    done(scene.change("granary", "/loft/media/films", |meta| meta.mode = 0o755))
                },
                "+++- . not ready: refused at /loft/media/films",
            ),
            (|scene| done(scene.unread("granary", "/loft/media")), "++++ + ready: ready"),
        ];
        hold(|| Scene::local().with_intake(), intake, cases);
    }

    #[test]
    fn what_breaks_an_intake_is_told_of_it() {
        fn rules(change: Alter) -> Vec<&'static str> {
            let mut scene = Scene::local().with_intake();
            change(&mut scene);
            let affected = Affected::Intake("films".into());
            let findings = check(&scene.site()).findings.into_iter();
            let of_intake = findings.filter(|finding| finding.affects.contains(&affected));
            of_intake.map(|finding| finding.rule.id).collect()
        }
        assert_eq!(rules(|_| {}), [""; 0]);
        let gone: Alter = |scene| done(scene.without("granary", "/loft/media/intake/done"));
        assert_eq!(rules(gone), ["path/missing"]);
        assert_eq!(
            rules(|scene| {
                let into = InView::of(abs("/data/Films"));
                scene.layout.intakes[0].sort.as_mut().unwrap().files_into = into;
            }),
            ["path/case"]
        );
    }
}
