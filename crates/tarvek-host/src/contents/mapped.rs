//! Contents as memory, so that what the kernel has in its cache is hashed where it is and not
//! copied first. Calls the kernel without a safe wrapper, since none exists.
//!
//! Whoever cuts a file off while it is mapped, or a disk that fails, raises SIGBUS where it is read
//! (`mmap(2)`). The handler here puts a page of zeros there and notes it; what was hashed is thrown
//! away then. Any other SIGBUS ends the program as always.

#![allow(unsafe_code)]

use std::fs::File;
use std::os::fd::AsRawFd;
use std::ptr;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use crate::content_fault::ContentFault;

/// How much is mapped at a time: what is mapped counts as memory of the program.
pub(super) const WINDOW: usize = 16 << 20;

/// The size of a page, or a part of it: pages are a multiple of this everywhere.
const PAGE: usize = 4096;

/// A part of memory that is a file's.
struct Slot {
    start: AtomicUsize,
    end: AtomicUsize,
    broken: AtomicBool,
}

/// As many as threads may read at once.
const SLOTS: usize = 256;
static MAPPED: [Slot; SLOTS] = [const {
    Slot { start: AtomicUsize::new(0), end: AtomicUsize::new(0), broken: AtomicBool::new(false) }
}; SLOTS];

/// Puts zeros where a page of a file is gone.
extern "C" fn gone(_: libc::c_int, info: *mut libc::siginfo_t, _: *mut libc::c_void) {
    // SAFETY: the kernel hands a valid `siginfo_t` to a handler with SA_SIGINFO; `si_addr` is set
    // for SIGBUS.
    let at = unsafe { (*info).si_addr() } as usize;
    for slot in &MAPPED {
        let (start, end) = (slot.start.load(Ordering::Acquire), slot.end.load(Ordering::Acquire));
        if start == 0 || !(start..end).contains(&at) {
            continue;
        }
        slot.broken.store(true, Ordering::Release);
        let page = at - at % page_size();
        // SAFETY: the page lies in a mapping of ours, which is only read, and is replaced by one of
        // the same size. mmap(2) is a plain call of the kernel, and may be made here.
        let made = unsafe {
            libc::mmap(
                page as *mut libc::c_void,
                page_size(),
                libc::PROT_READ,
                libc::MAP_PRIVATE | libc::MAP_ANONYMOUS | libc::MAP_FIXED,
                -1,
                0,
            )
        };
        if made != libc::MAP_FAILED {
            return;
        }
    }
    // SAFETY: giving a signal its usual meaning back runs no code of ours; the access is made again
    // then, and ends the program.
    unsafe { libc::signal(libc::SIGBUS, libc::SIG_DFL) };
}

fn page_size() -> usize {
    static SIZE: AtomicUsize = AtomicUsize::new(0);
    match SIZE.load(Ordering::Relaxed) {
        0 => {
            // SAFETY: sysconf(3) only tells a number.
            let size =
                usize::try_from(unsafe { libc::sysconf(libc::_SC_PAGESIZE) }).unwrap_or(PAGE);
            SIZE.store(size, Ordering::Relaxed);
            size
        }
        size => size,
    }
}

/// Whether the handler is there.
fn is_guarded() -> bool {
    static GUARDED: OnceLock<bool> = OnceLock::new();
    *GUARDED.get_or_init(|| {
        // It is asked for once before a handler may need it.
        page_size();
        // SAFETY: an all-zero `sigaction` is a valid one; the handler has the form that SA_SIGINFO
        // asks for, and is safe to be run at any moment: it only reads and writes atomics and calls
        // the kernel.
        unsafe {
            let mut action: libc::sigaction = std::mem::zeroed();
            action.sa_sigaction = gone as extern "C" fn(_, _, _) as usize;
            action.sa_flags = libc::SA_SIGINFO | libc::SA_NODEFER;
            libc::sigaction(libc::SIGBUS, &raw const action, ptr::null_mut()) == 0
        }
    })
}

/// Whether a file is on a filesystem where looking at mapped holes takes nothing: tmpfs would give
/// each of them a page of its own, and ZFS keeps a second copy of what is mapped.
fn maps_well(file: &File) -> bool {
    // ext2 to ext4, XFS, Btrfs (statfs(2)).
    const WELL: [i64; 3] = [0xef53, 0x5846_5342, 0x9123_683e];
    rustix::fs::fstatfs(file).is_ok_and(|fs| WELL.contains(&fs.f_type))
}

/// Gives some bytes of a file to whoever reads them, without copying; `None` where that can't be
/// done, and they have to be read.
///
/// # Errors
/// If they are not there any more, or can't be read.
pub(super) fn with(
    file: &File,
    at: u64,
    count: usize,
    read: impl FnOnce(&[u8]),
) -> Option<Result<(), ContentFault>> {
    let fits = count > 0 && usize::try_from(at).is_ok_and(|at| at.is_multiple_of(page_size()));
    if !fits || !maps_well(file) || !is_guarded() {
        return None;
    }
    let take = |slot: &&Slot| {
        slot.start.compare_exchange(0, 1, Ordering::AcqRel, Ordering::Relaxed).is_ok()
    };
    let slot = MAPPED.iter().find(take)?;
    // SAFETY: a new mapping of a file that is only read; the kernel chooses the place.
    let start = unsafe {
        libc::mmap(
            ptr::null_mut(),
            count,
            libc::PROT_READ,
            libc::MAP_PRIVATE,
            file.as_raw_fd(),
            at.cast_signed(),
        )
    };
    if start == libc::MAP_FAILED {
        slot.start.store(0, Ordering::Release);
        return None;
    }
    slot.broken.store(false, Ordering::Release);
    slot.end.store(start as usize + count.next_multiple_of(page_size()), Ordering::Release);
    slot.start.store(start as usize, Ordering::Release);
    // SAFETY: the mapping is `count` bytes long and stays until below; a page of it that goes away
    // is replaced by the handler. Whoever changes the file meanwhile changes what is read: it is
    // hashed, and nothing follows from its value but the digest.
    let bytes = unsafe { std::slice::from_raw_parts(start.cast::<u8>(), count) };
    read(bytes);
    let broken = slot.broken.load(Ordering::Acquire);
    // SAFETY: it is the mapping of above, and nothing refers to it any more.
    unsafe { libc::munmap(start, count) };
    slot.end.store(0, Ordering::Release);
    slot.start.store(0, Ordering::Release);
    Some(if broken { Err(ContentFault::CutOff) } else { Ok(()) })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_cut_off_while_it_is_mapped_is_an_error_and_no_crash() {
        let file = tempfile::tempfile_in(env!("CARGO_MANIFEST_DIR")).unwrap();
        if !maps_well(&file) {
            // Nothing is mapped there.
            assert!(with(&file, 0, 1, |_| ()).is_none());
            return;
        }
        file.set_len(1 << 20).unwrap();
        std::os::unix::fs::FileExt::write_all_at(&file, &[7; 4096], 1 << 19).unwrap();
        let sum = |bytes: &[u8]| bytes.iter().map(|byte| u64::from(*byte)).sum::<u64>();
        let mut all = 0;
        assert_eq!(with(&file, 0, 1 << 20, |bytes| all = sum(bytes)), Some(Ok(())));
        assert_eq!(all, 7 * 4096);
        let cut = with(&file, 0, 1 << 20, |bytes| {
            file.set_len(1 << 18).unwrap();
            all = sum(bytes);
        });
        assert!(cut.unwrap().is_err());
        assert_eq!(all, 0);
        // The next one is as if nothing had been.
        assert_eq!(with(&file, 0, 1 << 18, |bytes| all = sum(bytes)), Some(Ok(())));
        assert!(with(&file, 1, 10, |_| ()).is_none());
    }
}
