//! Where answers go.

use std::io::{self, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;

use anstream::{AutoStream, ColorChoice};
use tarvek_core::words::name::Name;
use tarvek_core::words::text::shown;

use crate::cli::{Globals, When};

/// Text is this wide, unless the terminal is narrower.
const WIDTH: usize = 100;

/// How much to say.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Volume {
    Quiet,
    Normal,
    Verbose,
}

/// Where answers go: colours as asked, and as wide as there is room.
#[derive(Debug)]
pub(crate) struct Screen {
    choice: ColorChoice,
    width: usize,
    volume: Volume,
    /// The folder one is in.
    here: Option<PathBuf>,
}

impl Screen {
    pub(crate) fn new(globals: &Globals) -> Self {
        let choice = match globals.color {
            When::Always => ColorChoice::Always,
            When::Never => ColorChoice::Never,
            When::Auto => ColorChoice::Auto,
        };
        let terminal = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
        let width = terminal.map_or(WIDTH, |width| width.clamp(40, WIDTH));
        let volume = match (globals.quiet, globals.verbose) {
            (true, _) => Volume::Quiet,
            (_, true) => Volume::Verbose,
            _ => Volume::Normal,
        };
        let here = std::env::current_dir().ok().and_then(|here| here.canonicalize().ok());
        Self { choice, width, volume, here }
    }

    pub(crate) fn width(&self) -> usize {
        self.width
    }

    pub(crate) fn volume(&self) -> Volume {
        self.volume
    }

    /// A path of this machine, from the folder one is in if it lies below that.
    pub(crate) fn near(&self, path: &[u8]) -> String {
        let here = self.here.as_ref().map(|here| here.as_os_str().as_bytes());
        let below = here.and_then(|here| path.strip_prefix(here)?.strip_prefix(b"/"));
        shown(below.unwrap_or(path))
    }

    /// What `--color` would have to say to a program whose output passes through this one.
    pub(crate) fn color_word(&self) -> &'static str {
        match AutoStream::choice(&io::stdout()) {
            ColorChoice::Never => "never",
            _ => "always",
        }
    }

    /// Writes an answer to stdout; styles are dropped where they are not wanted.
    pub(crate) fn say(&self, text: &str) -> io::Result<()> {
        let mut out = AutoStream::new(io::stdout().lock(), self.choice);
        out.write_all(text.as_bytes())?;
        out.flush()
    }

    /// Says of surveys that were broken off that something may be lacking: an answer that rests on
    /// them is right only as far as they go.
    pub(crate) fn tell_partial<'a>(&self, hosts: impl IntoIterator<Item = &'a Name>) {
        for host in hosts {
            self.complain(&format!(
                "the survey of {host} was broken off: what it lacks is not known; survey it again\n"
            ));
        }
    }

    /// Writes to stderr. If nobody can hear that either, the exit code has to do.
    pub(crate) fn complain(&self, text: &str) {
        let mut out = AutoStream::new(io::stderr().lock(), self.choice);
        let _ = out.write_all(text.as_bytes());
    }
}

/// A time, as a person reads it: `2026-11-22 08:00 UTC`.
pub(crate) fn when(seconds: i64) -> String {
    match jiff::Timestamp::from_second(seconds) {
        Ok(time) => time.strftime("%Y-%m-%d %H:%M UTC").to_string(),
        Err(_) => format!("{seconds} seconds after 1970"),
    }
}
