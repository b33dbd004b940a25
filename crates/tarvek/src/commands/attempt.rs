//! `tarvek attempt`: the other half of `--prove`, in a process that becomes the account.

use std::ffi::OsString;
use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use tarvek_core::judge::verdict::{Answer, Attempt, Need};
use tarvek_core::kernel::subject::Subject;
use tarvek_core::link::verdict::NameOperation;
use tarvek_core::words::errno::Errno;
use tarvek_core::words::text::shown;
use tarvek_core::words::word::Word;
use tarvek_host::observe;
use tarvek_host::process::Process;
use tarvek_host::prove::{FolderTimes, attempt, become_account, may_be_opened, untriable};
use tarvek_host::prove_link;

use crate::cli::AttemptArgs;
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::Screen;

/// Becomes the account, tries, and says for each need what came of it.
pub(super) fn run(args: &AttemptArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let bad = || Failure::new("the subject is not UID:GID,GID…");
    let subject = args.subject.as_deref().map(|who| inputs::numbers(who).ok_or_else(bad));
    let subject = subject.transpose()?;
    let view = args.process.map(Process::open).transpose()?;
    if let Some(process) = &view {
        process.enter()?;
    }
    if let Some(subject) = &subject {
        become_account(subject)?;
    }
    if let Some(process) = &view {
        process.take_capabilities()?;
    }
    let (path, into) = (Path::new(&args.path), args.into.as_deref().map(Path::new));
    for (deed, into) in args.deed.iter().zip(std::iter::repeat(into)) {
        let came = match (deed, into) {
            (NameOperation::Link, Some(into)) => prove_link::link(path, into),
            (NameOperation::Rename, Some(into)) => prove_link::rename(path, into),
            (_, None) => return Err(Failure::new("no folder is named")),
        };
        screen.say(&format!("{} {}\n", deed.word(), written(&came)))?;
    }
    for need in &args.need {
        let came = written(&attempt(Path::new(&args.path), *need));
        screen.say(&format!("{} {came}\n", need.word()))?;
    }
    Ok(Outcome::Fine)
}

/// `ok`, the error's name, or why it can't be told.
fn written(attempt: &Attempt) -> String {
    match attempt {
        Attempt::Possible => "ok".to_owned(),
        Attempt::Failed(errno) => errno.to_string(),
        Attempt::Untold(why) => format!("? {why}"),
    }
}

fn read(written: &str) -> Attempt {
    match (written, Errno::named(written)) {
        ("ok", _) => Attempt::Possible,
        (_, Some(errno)) => Attempt::Failed(errno),
        _ => Attempt::Untold(written.trim_start_matches("? ").to_owned()),
    }
}

/// Puts answers to the test: each need that can be tried is, and its answer then says what really
/// came of it.
///
/// # Errors
/// If this process is not root, or the child could not become the account.
pub(super) fn prove(
    path: &[u8],
    subject: &Subject,
    answers: Vec<Answer>,
) -> Result<Vec<Answer>, Failure> {
    if observe::own_uid() != 0 {
        return Err(Failure::with_remedy(
            "only root can become somebody else to try",
            "run it as root, or leave --prove out: the answer is then what was seen",
        ));
    }
    let place = PathBuf::from(std::ffi::OsStr::from_bytes(path));
    if !may_be_opened(&place) {
        return Err(Failure::new(format!(
            "{} is neither a file nor a folder, and nothing else is opened",
            shown(path)
        )));
    }
    let triable: Vec<Need> = answers
        .iter()
        .map(|answer| answer.need)
        .filter(|need| *need != Need::Remove || untriable(&place).is_none())
        .collect();
    let folder = if place.is_dir() { Some(place.as_path()) } else { place.parent() };
    let kept = folder.map(FolderTimes::of).transpose()?;
    let needs = triable.iter().map(|need| need.word()).collect::<Vec<_>>().join(",");
    let options = [format!("--as={}", numbers(subject)), format!("--need={needs}")];
    let (process, tried) = in_child(&options.map(OsString::from), &place)?;
    if let Some(kept) = kept {
        kept.restore(process)?;
    }
    let tried = tried.ok_or_else(|| Failure::new(format!("could not become {subject} to try")))?;
    let tried = |answer: Answer| match tried.of(answer.need.word()) {
        Some(attempt) => answer.tried(attempt),
        None => answer,
    };
    Ok(answers.into_iter().map(tried).collect())
}

/// `UID:GID,GID…`.
pub(super) fn numbers(subject: &Subject) -> String {
    let gids = [subject.gid].into_iter().chain(subject.groups.iter().copied());
    format!("{}:{}", subject.uid, gids.map(|gid| gid.to_string()).collect::<Vec<_>>().join(","))
}

/// What a child said of each attempt.
pub(super) struct Tried(String);

impl Tried {
    pub(super) fn of(&self, what: &str) -> Option<Attempt> {
        let mut lines = self.0.lines().filter_map(|line| line.split_once(' '));
        lines.find(|(tried, _)| *tried == what).map(|(_, came)| read(came))
    }
}

/// Starts this program to try something at a path. The child's number, and what it said; `None` if
/// it could not try.
///
/// # Errors
/// If it can't be started.
pub(super) fn in_child(options: &[OsString], path: &Path) -> Result<(u32, Option<Tried>), Failure> {
    let child = Command::new(std::env::current_exe()?)
        .arg("attempt")
        .args(options)
        .arg("--")
        .arg(path)
        .current_dir("/")
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()?;
    let process = child.id();
    let output = child.wait_with_output()?;
    if !output.status.success() {
        std::io::stderr().write_all(&output.stderr)?;
        return Ok((process, None));
    }
    Ok((process, Some(Tried(String::from_utf8_lossy(&output.stdout).into_owned()))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_child_says_is_what_came() {
        let untold = Attempt::Untold("it is a FIFO".to_owned());
        for attempt in [Attempt::Possible, Attempt::Failed(Errno::ReadOnly), untold] {
            assert_eq!(read(&written(&attempt)), attempt);
        }
    }
}
