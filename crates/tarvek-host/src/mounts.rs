//! The mount table of this process.

use tarvek_core::facts::mounts::MountTable;
use tarvek_formats::mountinfo;

/// The mounts of this thread, which may have some of its own.
pub(crate) fn own_mounts() -> Option<MountTable> {
    let table = std::fs::read("/proc/thread-self/mountinfo");
    let table = table.or_else(|_| std::fs::read("/proc/self/mountinfo")).ok()?;
    mountinfo::read(&table).ok()
}
