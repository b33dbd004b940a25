//! `tarvek survey`.

use std::ffi::OsString;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::atomic::Ordering;

use tarvek_core::facts::host::{Gap, HostFacts};
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::{bytes, counted, shown};
use tarvek_host::observe::{self, Depth, Look, host_name};
use tarvek_host::store::{self, Added, Saved, StoreError, Unsaved};
use tarvek_host::walk::Watch;

use super::progress::{interruptible, with_progress};
use crate::cli::{Globals, SurveyArgs};
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::{Screen, Volume};

/// The script that collects a listing.
const COLLECTOR: &str = include_str!("../collector.sh");

pub(super) fn run(
    globals: &Globals,
    args: &SurveyArgs,
    screen: &Screen,
) -> Result<Outcome, Failure> {
    if args.collector {
        screen.say(COLLECTOR)?;
        return Ok(Outcome::Fine);
    }
    let output = args.output.as_deref().expect("clap requires it");
    let refuse = |error| inputs::store_failure(output, &error);
    let (facts, saved) = match &args.from {
        Some(listing) => {
            let facts = from_listing(listing)?;
            store::save(facts, output).map_err(refuse)?
        }
        None => live(globals, args, output, screen)?,
    };
    screen.say(&summary(&facts, &saved, output, screen))?;
    let add = |what: &str, add: &dyn Fn(&Watch) -> Result<Added, StoreError>| {
        let watch = interruptible();
        let done = with_progress(&watch, "files", screen, || add(&watch)).map_err(refuse)?;
        screen.say(&added(what, &done, screen))?;
        if watch.stop.load(Ordering::Relaxed) {
            return Err(Failure::with_remedy(
                format!("interrupted; the survey is complete, but some {what} are lacking"),
                "run it again to go on",
            ));
        }
        Ok(())
    };
    if args.media {
        add("headers", &|watch| store::add_media(output, watch))?;
    }
    if args.digests {
        add("digests", &|watch| store::add_digests(output, watch))?;
    }
    Ok(Outcome::Fine)
}

fn from_listing(file: &Path) -> Result<HostFacts, Failure> {
    if file != Path::new("-") {
        return inputs::survey(file);
    }
    inputs::listing("standard input", io::stdin().lock(), None)
}

fn live(
    globals: &Globals,
    args: &SurveyArgs,
    output: &Path,
    screen: &Screen,
) -> Result<(HostFacts, Saved), Failure> {
    let (host, places) = if args.roots.is_empty() {
        inputs::places_of(globals, args.host.as_deref())?
    } else {
        let roots = args.roots.iter().map(root).collect::<Result<Vec<_>, _>>()?;
        (args.host.as_deref().map_or_else(host_name, Name::from), roots)
    };
    if std::fs::symlink_metadata(output).is_ok_and(|meta| !meta.is_file()) {
        let message = format!("{} is there and is no file", inputs::name_of(output));
        return Err(Failure::with_remedy(message, "name another file"));
    }
    let watch = interruptible();
    let look = Look { places: &places, documents: true, process: None, watch: &watch };
    let root = observe::root().map_err(Failure::new)?;
    let saved = with_progress(&watch, "entries", screen, || {
        store::survey(output, &host, root, |sink, before| {
            observe::observe_into(&look, sink, before)
        })
    });
    saved.map_err(|unsaved| match unsaved {
        Unsaved::Look(error) if error.kind() == io::ErrorKind::Interrupted => Failure::with_remedy(
            "interrupted; nothing was written",
            "run it again to survey the whole",
        ),
        Unsaved::Look(error) => Failure::new(error),
        Unsaved::Store(error) => inputs::store_failure(output, &error),
    })
}

/// A root that is given has to be a folder; a symlink might lead anywhere.
fn root(written: &OsString) -> Result<(AbsPath, Depth), Failure> {
    let name = shown(written.as_bytes());
    let path =
        std::path::absolute(written).map_err(|error| Failure::new(format!("{name}: {error}")))?;
    let meta = std::fs::symlink_metadata(&path).map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => {
            Failure::with_remedy(format!("the root {name} does not exist"), "name a folder")
        }
        _ => Failure::new(format!("can't look at the root {name}: {error}")),
    })?;
    if meta.is_symlink() {
        let target = std::fs::canonicalize(&path).ok();
        let remedy = match target {
            Some(target) => format!(
                "name the folder that it leads to: {}",
                shown(target.as_os_str().as_bytes())
            ),
            None => "it leads nowhere; name a folder".to_owned(),
        };
        return Err(Failure::with_remedy(format!("the root {name} is a symlink"), remedy));
    }
    if !meta.is_dir() {
        return Err(Failure::with_remedy(
            format!("the root {name} is not a folder"),
            "name the folder that it is in",
        ));
    }
    let bad = |fault| {
        Failure::with_remedy(format!("the root {name} {fault}"), "write it as an absolute path")
    };
    Ok((AbsPath::new(path.as_os_str().as_bytes()).map_err(bad)?, Depth::Everything))
}

fn summary(facts: &HostFacts, saved: &Saved, output: &Path, screen: &Screen) -> String {
    let entries = counted(saved.entries, "entry");
    let mut text = format!(
        "{}: {entries} of {} ({} added, {} changed, {} removed)\n",
        inputs::name_of(output),
        facts.name,
        saved.added,
        saved.changed,
        saved.removed
    );
    let lacking = facts.documents.iter().filter(|document| document.name == "lacking");
    for line in lacking.flat_map(|document| document.text.lines()) {
        text += &format!("not collected: {}\n", shown(line.as_bytes()));
    }
    text + &gaps(&facts.gaps, "place", "could not be looked into", screen)
}

fn added(what: &str, done: &Added, screen: &Screen) -> String {
    let text = format!(
        "{what}: {} read ({}), {} kept\n",
        counted(done.files, "file"),
        bytes(done.bytes),
        done.kept
    );
    text + &gaps(&done.failed, "file", "could not be read", screen)
}

fn gaps(gaps: &[Gap], noun: &str, what: &str, screen: &Screen) -> String {
    if gaps.is_empty() {
        return String::new();
    }
    let mut text = format!("{} {what}:\n", counted(gaps.len() as u64, noun));
    let most = if screen.volume() == Volume::Verbose { usize::MAX } else { 5 };
    for gap in gaps.iter().take(most) {
        text += &format!("    {}: {}\n", gap.path, gap.why);
    }
    if gaps.len() > most {
        text += "    … -v shows all of them\n";
    }
    text
}
