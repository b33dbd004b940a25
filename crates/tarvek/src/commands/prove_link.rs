//! `link --prove`: the verdicts put to the test.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use tarvek_core::kernel::subject::Subject;
use tarvek_core::link::link_paths::LinkPaths;
use tarvek_core::link::verdict::{NameOperation, Reason, Verdict};
use tarvek_core::route::end::End;
use tarvek_core::route::hops::{Route, View};
use tarvek_host::observe;
use tarvek_host::prove::FolderTimes;
use tarvek_host::prove_link::{irrevocable, sweep, sweep_of};

use super::attempt::{in_child, numbers};
use crate::inputs::Query;
use crate::outcome::Failure;
use crate::view::Screen;

/// Puts both verdicts to the test, where that can tell more and be taken back.
///
/// # Errors
/// If the view is none of this machine's, or nobody can become the account.
pub(super) fn prove(
    asked: &Query,
    subject: &Subject,
    ends: &LinkPaths,
    verdicts: [Verdict; 2],
    screen: &Screen,
) -> Result<[Verdict; 2], Failure> {
    if asked.process.is_none() && asked.view != View::Host(asked.own.clone()) {
        return Err(Failure::with_remedy(
            format!(
                "links can only be tried on this machine, and {} is another viewpoint",
                asked.view
            ),
            "run it on the host itself: as --from process:PID of the running service, or with the \
             host's own paths and --as",
        ));
    }
    let options = who(asked, subject)?;
    let name = ends.source.name.as_ref().expect("a path was given");
    let (mut source, folder) = (path_of(name), path_of(&ends.target.folder));
    let here = outside(asked, &folder);
    let own = source.parent().map(|own| outside(asked, own));
    // What is called by a dot is looked up in itself.
    if !ends.source.is_name {
        source.push(".");
    }
    let folders: Vec<&PathBuf> = own.iter().chain([&here]).collect();
    for left in folders.iter().flat_map(|folder| sweep(folder)) {
        screen.complain(&format!(
            "{left} is left from a proof that was killed, and has become the last name of a file: \
             it is left alone\n"
        ));
    }
    let grows = irrevocable(&here);
    let deeds = [NameOperation::Link, NameOperation::Rename];
    // Whether what has the name may be replaced is not told by another name, and a dot has none to
    // move.
    let taken = ends.target.name.as_ref().is_some_and(|name| name.end == End::Reached);
    // Where a way leads nowhere there is no place to try anything in.
    let there = name.end == End::Reached && ends.target.folder.end == End::Reached;
    let telling = |deed: &NameOperation| {
        let named = (taken || !ends.source.is_name) && *deed == NameOperation::Rename;
        there && tells(*deed, &verdicts[*deed as usize]) && grows.is_none() && !named
    };
    let tried: Vec<NameOperation> = deeds.into_iter().filter(telling).collect();
    let mut came = None;
    if !tried.is_empty() {
        let times: Vec<FolderTimes> =
            folders.iter().filter_map(|folder| FolderTimes::of(folder).ok()).collect();
        let words: Vec<&str> = tried.iter().map(|deed| deed.word()).collect();
        let mut options = options;
        options.push(format!("--deed={}", words.join(",")).into());
        options.extend(["--into".into(), folder.clone().into_os_string()]);
        let (process, said) = in_child(&options, &source)?;
        folders.iter().for_each(|folder| drop(sweep_of(folder, process)));
        for times in times {
            times.restore(process)?;
        }
        came =
            Some(said.ok_or_else(|| Failure::new(format!("could not become {subject} to try")))?);
    }
    let [link, rename] = verdicts;
    let prove = |deed: NameOperation, verdict: Verdict| match (
        came.as_ref().and_then(|came| came.of(deed.word())),
        &grows,
    ) {
        (Some(attempt), _) => verdict.tried(attempt),
        (None, Some(why)) => verdict.untried(why),
        (None, None) => verdict,
    };
    Ok([prove(NameOperation::Link, link), prove(NameOperation::Rename, rename)])
}

/// Whether an attempt under a hidden name can tell anything: what is refused because of the name,
/// or of what the source is, it can't.
fn tells(deed: NameOperation, verdict: &Verdict) -> bool {
    !matches!(
        (deed, verdict.reason),
        (_, Reason::TargetExists | Reason::NotAFolder | Reason::Busy)
            | (
                NameOperation::Rename,
                Reason::IsFolder | Reason::Flagged | Reason::SourceFolderUnwritable
            )
    )
}

/// The options that make the child whoever asks, in their view.
fn who(asked: &Query, subject: &Subject) -> Result<Vec<OsString>, Failure> {
    let root = observe::own_uid() == 0;
    let mut options: Vec<OsString> = Vec::new();
    let mut inside = subject.clone();
    if let Some(process) = &asked.process {
        let cant = |why: &str| {
            Failure::with_remedy(
                format!("nobody can become the process {}: {why}", process.pid),
                "leave --prove out: the answer is then what was seen",
            )
        };
        if *subject == process.subject() {
            if process.has_more_than_its_account() {
                return Err(cant("it has capabilities that its account has not"));
            }
            inside = process.subject_inside().ok_or_else(|| cant("its namespace lacks its ids"))?;
        } else if process.ids.is_some() {
            return Err(cant("it has ids of its own, and --as names somebody by others"));
        }
        options.push(format!("--process={}", process.pid).into());
    }
    let (gid, groups) = observe::own_groups();
    let is_own =
        *subject == Subject::new(observe::own_uid(), gid, groups) && asked.process.is_none();
    if !is_own && !root {
        return Err(Failure::with_remedy(
            "only root can become somebody else to try",
            "run it as root, or leave --prove out: the answer is then what was seen",
        ));
    }
    if !is_own {
        options.push(format!("--as={}", numbers(&inside)).into());
    }
    Ok(options)
}

/// Where a route ends in its view, symlinks resolved.
fn path_of(route: &Route) -> PathBuf {
    PathBuf::from(std::ffi::OsStr::from_bytes(route.view_path().as_bytes()))
}

/// The same as this process has it.
fn outside(asked: &Query, path: &Path) -> PathBuf {
    match &asked.process {
        Some(process) => {
            let root = PathBuf::from(format!("/proc/{}/root", process.pid));
            root.join(path.strip_prefix("/").unwrap_or(path))
        }
        None => path.to_owned(),
    }
}
