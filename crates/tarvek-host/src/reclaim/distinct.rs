//! Whether two open files are two. Numbers do not say so where one filesystem shows what lies on
//! another: an overlay, a mirror of FUSE, a network share of this very host. What is done to one of
//! them shows in the other if both are one.

use std::fs::File;
use std::os::fd::AsFd;
use std::thread::sleep;
use std::time::Duration;

use rustix::fs::{AtFlags, Statx, StatxFlags, StatxTimestamp, Timespec, Timestamps};
use rustix::io::Errno;

use crate::filesystem::{Nature, may_be_stale, nature};
use crate::walk;

/// How long attributes may be kept by a filesystem in a program of its own, unless it was told
/// otherwise (`fuse(8)`, attr_timeout).
const CACHED: Duration = Duration::from_millis(1100);
/// How long the clock of a filesystem takes to move on: one tick of most, two seconds of FAT.
const TICK: Duration = Duration::from_millis(5);
const TICKS: u32 = 450;

/// Proves by effect that what is held and what is kept for it are two files: the inode of each is
/// changed in a way that alters nothing, and the other one must not show it.
///
/// # Errors
/// If they are one, or nobody can tell.
pub(super) fn prove_distinct(held: &File, kept: &File) -> Result<(), String> {
    let told = |error: Errno| format!("it can't be looked at: {}", walk::why(error));
    let stat = |file: &File| walk::stat_now(file.as_fd()).map_err(told);
    let (one, other) = (stat(held)?, stat(kept)?);
    if (one.device, one.inode) == (other.device, other.inode) {
        return Err("it is the same file".to_owned());
    }
    let natures = [nature(held.as_fd()), nature(kept.as_fd())];
    let is_plain = natures == [Nature::Plain; 2];
    let ways = match is_plain {
        true => vec![(held, kept)],
        false => vec![(held, kept), (kept, held)],
    };
    for (changed, watched) in ways {
        let before = stat(watched)?;
        if let Err(why) = change_inode(changed) {
            // Numbers of filesystems that show nothing of others are enough.
            return match is_plain {
                true => Ok(()),
                false => Err(format!(
                    "it lies on a filesystem that may show other files again, and nobody can prove \
                     that it is another: {why}"
                )),
            };
        }
        if may_be_stale(watched.as_fd()) {
            sleep(CACHED);
        }
        let after = stat(watched)?;
        if before.changed != after.changed || before.changed.is_none() {
            return Err("it is the same file, seen a second time".to_owned());
        }
    }
    Ok(())
}

/// Changes the ctime of a file, and nothing else: its times are set to what they are. Both of them,
/// since older programs behind FUSE ignore one alone.
fn change_inode(file: &File) -> Result<(), String> {
    let told = |error: Errno| walk::why(error);
    let flags = AtFlags::EMPTY_PATH | AtFlags::STATX_FORCE_SYNC;
    let stat = || rustix::fs::statx(file, c"", flags, StatxFlags::BASIC_STATS).map_err(told);
    let before = stat()?;
    let time = |of: StatxTimestamp| Timespec { tv_sec: of.tv_sec, tv_nsec: of.tv_nsec.into() };
    let times = Timestamps {
        last_access: time(before.stx_atime),
        last_modification: time(before.stx_mtime),
    };
    let changed = |of: Statx| (of.stx_ctime.tv_sec, of.stx_ctime.tv_nsec);
    for _ in 0..TICKS {
        rustix::fs::futimens(file, &times).map_err(told)?;
        if changed(stat()?) != changed(before) {
            return Ok(());
        }
        sleep(TICK);
    }
    Err("its filesystem does not tell when an inode changes".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_files_are_two_and_two_names_are_one() {
        let folder = tempfile::tempdir().unwrap();
        let file = |name: &str| folder.path().join(name);
        std::fs::write(file("a"), "x").unwrap();
        std::fs::write(file("b"), "x").unwrap();
        std::fs::hard_link(file("a"), file("c")).unwrap();
        let open = |name: &str| File::open(file(name)).unwrap();
        let modified = open("a").metadata().unwrap().modified().unwrap();
        assert_eq!(prove_distinct(&open("a"), &open("b")), Ok(()));
        assert_eq!(open("a").metadata().unwrap().modified().unwrap(), modified);
        assert_eq!(prove_distinct(&open("a"), &open("c")), Err("it is the same file".to_owned()));
    }
}
