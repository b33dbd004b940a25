//! The one guard of whatever reads bytes that somebody else wrote: a panic, in Tarvek or in a
//! library, is something that can't be read, and no end of the program.

use std::any::Any;
use std::cell::Cell;
use std::panic::{self, AssertUnwindSafe};
use std::sync::Once;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::mistake::Refused;

thread_local! {
    /// How many guards are around what this thread does.
    static AROUND: Cell<u32> = const { Cell::new(0) };
}

/// How many panics were caught.
static CAUGHT: AtomicU64 = AtomicU64::new(0);

/// A panic that was caught.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Panicked {
    /// What it said. It may quote what was read.
    pub message: String,
}

/// Reads something. Nothing of what is made in between is seen after a panic but what `read` was
/// lent; that has to make sense half done.
///
/// # Errors
/// If it panicked.
pub fn guarded<T>(read: impl FnOnce() -> T) -> Result<T, Panicked> {
    static HOOK: Once = Once::new();
    HOOK.call_once(|| {
        let usual = panic::take_hook();
        panic::set_hook(Box::new(move |info| {
            if AROUND.get() == 0 {
                usual(info);
            }
        }));
    });
    AROUND.set(AROUND.get() + 1);
    let outcome = panic::catch_unwind(AssertUnwindSafe(read));
    AROUND.set(AROUND.get() - 1);
    outcome.map_err(|panic| {
        CAUGHT.fetch_add(1, Ordering::Relaxed);
        Panicked { message: message(panic.as_ref()) }
    })
}

/// How many panics were caught so far, on all threads.
pub fn caught() -> u64 {
    CAUGHT.load(Ordering::Relaxed)
}

fn message(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
    text.or_else(|| panic.downcast_ref::<String>().cloned()).unwrap_or_default()
}

/// Reads a file that is refused as a whole if that panics.
pub(crate) fn refusing<T>(
    file: &str,
    read: impl FnOnce() -> Result<T, Refused>,
) -> Result<T, Refused> {
    guarded(read).unwrap_or_else(|panicked| Err(Refused::by_a_fault(file, &panicked.message)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_is_an_error_and_names_the_file() {
        let before = caught();
        assert_eq!(guarded(|| 1), Ok(1));
        let none: [u8; 0] = [];
        let refused = refusing("a.toml", || {
            let at = std::hint::black_box(3);
            Ok(none[at])
        });
        let text = refused.unwrap_err().to_string();
        assert!(text.starts_with("a.toml:1:1: ") && text.contains("index out of bounds"), "{text}");
        assert_eq!(caught(), before + 1);
    }
}
