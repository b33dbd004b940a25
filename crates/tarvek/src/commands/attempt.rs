//! `tarvek attempt`: the other half of `access --prove`, in a process that becomes the account.

use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use tarvek_core::access::{Need, Verdict};
use tarvek_core::identity::Subject;
use tarvek_core::path::AbsPath;
use tarvek_core::route::Evidence;
use tarvek_host::observe;
use tarvek_host::prove::{Kept, attempt, become_account, may_be_opened, untriable};

use crate::cli::AttemptArgs;
use crate::outcome::{Failure, Outcome};
use crate::view::Stage;

/// Becomes the account, tries, and says for each need `ok`, the error's name, or why it can't be told.
pub(super) fn run(args: &AttemptArgs, stage: &Stage) -> Result<Outcome, Failure> {
    let bad = || Failure::new("the subject is not UID:GID,GID…");
    let (uid, gids) = args.subject.split_once(':').ok_or_else(bad)?;
    let numbers: Result<Vec<u32>, _> = gids.split(',').map(str::parse).collect();
    let (Ok(uid), Ok(gids)) = (uid.parse(), numbers) else { return Err(bad()) };
    let (gid, groups) = gids.split_first().ok_or_else(bad)?;
    become_account(&Subject::new(uid, *gid, groups.iter().copied()))?;
    for need in &args.need {
        let need = Need::from(*need);
        let came = match attempt(Path::new(&args.path), need) {
            Ok(None) => "ok".to_owned(),
            Ok(Some(error)) => error.to_owned(),
            Err(why) => format!("? {why}"),
        };
        stage.say(&format!("{} {came}\n", need.word()))?;
    }
    Ok(Outcome::Fine)
}

/// Puts verdicts to the test: each that can be tried is, and then says what really came of it.
///
/// # Errors
/// If this process is not root, or the child could not become the account.
pub(super) fn prove(
    path: &AbsPath,
    subject: &Subject,
    verdicts: &mut [Verdict],
) -> Result<(), Failure> {
    if observe::own_uid() != 0 {
        return Err(Failure::with_remedy(
            "only root can become somebody else to try",
            "run it as root, or leave --prove out: the answer is then what was seen",
        ));
    }
    let place = PathBuf::from(std::ffi::OsStr::from_bytes(path.as_bytes()));
    if !may_be_opened(&place) {
        return Err(Failure::new(format!(
            "{path} is neither a file nor a folder, and nothing else is opened"
        )));
    }
    let triable: Vec<Need> = verdicts
        .iter()
        .filter(|verdict| verdict.need != Need::Remove || untriable(&place).is_none())
        .map(|verdict| verdict.need)
        .collect();
    let folder = if place.is_dir() { Some(place.as_path()) } else { place.parent() };
    let kept = folder.map(Kept::of).transpose()?;
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
    for line in text.lines() {
        let Some((need, came)) = line.split_once(' ') else { continue };
        let Some(verdict) = verdicts.iter_mut().find(|verdict| verdict.need.word() == need) else {
            continue;
        };
        settle(verdict, came);
    }
    Ok(())
}

/// Puts what came of an attempt into a verdict.
fn settle(verdict: &mut Verdict, came: &str) {
    if let Some(why) = came.strip_prefix("? ") {
        verdict.reason += &format!(" (not proven: {why})");
        return;
    }
    // An attempt leaves things as they are, and so can't tell what only the deed would.
    if came == "ok" && matches!(verdict.errno, Some("ENOTEMPTY" | "EBUSY")) {
        return;
    }
    let allowed = came == "ok";
    if verdict.allowed != Some(allowed) {
        let really = if allowed { "it was possible" } else { came };
        let seen = std::mem::take(&mut verdict.reason);
        verdict.reason = format!("tried, and {really}; by what was seen: {seen}");
    }
    verdict.allowed = Some(allowed);
    verdict.evidence = Evidence::Proven;
    verdict.errno = (!allowed).then(|| errno(came)).flatten();
}

fn errno(name: &str) -> Option<&'static str> {
    const KNOWN: &[&str] = &[
        "EACCES",
        "EPERM",
        "EROFS",
        "ENOENT",
        "ENOTDIR",
        "ELOOP",
        "EBUSY",
        "EOVERFLOW",
        "ETXTBSY",
    ];
    KNOWN.iter().copied().find(|known| *known == name)
}
