//! Long work: how far it is, on a terminal, and Ctrl-C.

use std::fmt::Write;
use std::io::{self, IsTerminal};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use indicatif::{HumanCount, ProgressBar, ProgressState, ProgressStyle};
use tarvek_host::walk::Watch;

use crate::view::{Screen, Volume};

/// A watch that Ctrl-C stops.
pub(super) fn interruptible() -> Arc<Watch> {
    static WATCH: Mutex<Option<Arc<Watch>>> = Mutex::new(None);
    let watch = Arc::new(Watch::default());
    let first = WATCH.lock().unwrap_or_else(PoisonError::into_inner).replace(Arc::clone(&watch));
    if first.is_none() {
        // A Ctrl-C ends the program in the usual way if this can't be set up.
        let _ = ctrlc::set_handler(move || {
            let watch = WATCH.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some(watch) = watch.as_ref() {
                watch.stop.store(true, Ordering::Relaxed);
            }
        });
    }
    watch
}

/// Shows on a terminal how many entries were seen or files read, and how fast; of contents bytes,
/// and how long it still takes.
pub(super) fn with_progress<T>(
    watch: &Watch,
    what: &str,
    screen: &Screen,
    work: impl FnOnce() -> T,
) -> T {
    if screen.volume() == Volume::Quiet || !io::stderr().is_terminal() {
        return work();
    }
    let done = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let expected = watch.expected.load(Ordering::Relaxed);
            let bar = ProgressBar::new(expected);
            let template = match expected {
                0 => format!("{{spinner}} {{human_pos}} {what}, {{rate}}/s"),
                _ => format!(
                    "{{spinner}} {{binary_bytes}} of at most {{binary_total_bytes}} of \
                              {what}, {{binary_bytes_per_sec}}, {{eta}} left"
                ),
            };
            let style = ProgressStyle::with_template(&template).expect("the template is sound");
            bar.set_style(style.with_key("rate", |state: &ProgressState, out: &mut dyn Write| {
                let _ = write!(out, "{}", HumanCount(state.per_sec() as u64));
            }));
            while !done.load(Ordering::Relaxed) {
                let counted = if expected == 0 { &watch.entries } else { &watch.bytes };
                bar.set_position(counted.load(Ordering::Relaxed));
                bar.tick();
                std::thread::sleep(Duration::from_millis(100));
            }
            bar.finish_and_clear();
        });
        // Also where the work ends in an unforeseen way, or this would wait for ever.
        let _ended = Ended(&done);
        work()
    })
}

/// Says that something is over when it goes.
struct Ended<'a>(&'a AtomicBool);

impl Drop for Ended<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}
