//! `tarvek attempt`: the other half of `access --prove`, in a process that becomes the account.

use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use tarvek_core::judge::verdict::{Answer, Attempt, Need};
use tarvek_core::kernel::subject::Subject;
use tarvek_core::words::errno::Errno;
use tarvek_core::words::text::shown;
use tarvek_core::words::word::Word;
use tarvek_host::observe;
use tarvek_host::prove::{FolderTimes, attempt, become_account, may_be_opened, untriable};

use crate::cli::AttemptArgs;
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::Screen;

/// Becomes the account, tries, and says for each need what came of it.
pub(super) fn run(args: &AttemptArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let bad = || Failure::new("the subject is not UID:GID,GID…");
    become_account(&inputs::numbers(&args.subject).ok_or_else(bad)?)?;
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

/// Puts answers to the test: each need that can be tried is, and its answer then says what really came of it.
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
    let gids: Vec<String> =
        [subject.gid].iter().chain(&subject.groups).map(ToString::to_string).collect();
    let child = Command::new(std::env::current_exe()?)
        .arg("attempt")
        .arg("--as")
        .arg(format!("{}:{}", subject.uid, gids.join(",")))
        .arg("--need")
        .arg(triable.iter().map(|need| need.word()).collect::<Vec<_>>().join(","))
        .arg("--")
        .arg(&place)
        .current_dir("/")
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()?;
    let process = child.id();
    let output = child.wait_with_output();
    if let Some(kept) = kept {
        kept.restore(process)?;
    }
    let output = output?;
    if !output.status.success() {
        std::io::stderr().write_all(&output.stderr)?;
        return Err(Failure::new(format!("could not become {subject} to try")));
    }
    let text = String::from_utf8_lossy(&output.stdout);
    let came = |need: Need| {
        let mut lines = text.lines().filter_map(|line| line.split_once(' '));
        lines.find(|(tried, _)| *tried == need.word()).map(|(_, came)| read(came))
    };
    let tried = |answer: Answer| match came(answer.need) {
        Some(attempt) => answer.tried(attempt),
        None => answer,
    };
    Ok(answers.into_iter().map(tried).collect())
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
