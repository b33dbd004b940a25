//! Colours, glyphs and words: one table, so that a state looks the same everywhere. Colour never
//! stands alone.

use std::fmt;

use anstyle::{AnsiColor, Style};
use tarvek_core::check::board::State;
use tarvek_core::link::intake::Does;
use tarvek_core::waste::group::Suggest;
use tarvek_core::words::rule::Severity;
use tarvek_host::reclaim::StepState;
use unicode_width::UnicodeWidthStr;

const GOOD: Style = AnsiColor::Green.on_default();
const BAD: Style = AnsiColor::Red.on_default().bold();
pub(crate) const DOUBTFUL: Style = AnsiColor::Yellow.on_default();
const REMARK: Style = AnsiColor::Cyan.on_default();
pub(crate) const DIM: Style = Style::new().dimmed();
pub(crate) const STRONG: Style = Style::new().bold();

/// A text in a style, padded by what it shows and not by its escape sequences.
pub(crate) struct Styled {
    text: String,
    style: Style,
}

impl Styled {
    /// How wide it shows.
    pub(crate) fn width(&self) -> usize {
        self.text.width()
    }
}

impl fmt::Display for Styled {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let missing = f.width().unwrap_or(0).saturating_sub(self.text.width());
        let style = self.style;
        write!(f, "{style}{}{style:#}{}", self.text, " ".repeat(missing))
    }
}

fn styled(text: impl fmt::Display, style: Style) -> Styled {
    Styled { text: text.to_string(), style }
}

/// As it is.
pub(crate) fn plain(text: impl fmt::Display) -> Styled {
    styled(text, Style::new())
}

pub(crate) fn strong(text: impl fmt::Display) -> Styled {
    styled(text, STRONG)
}

pub(crate) fn dim(text: impl fmt::Display) -> Styled {
    styled(text, DIM)
}

/// A line that a change adds.
pub(crate) fn added(text: impl fmt::Display) -> Styled {
    styled(text, GOOD)
}

/// A line that a change takes out.
pub(crate) fn removed(text: impl fmt::Display) -> Styled {
    styled(text, AnsiColor::Red.on_default())
}

/// One cell of the board.
pub(crate) fn stage(stage: State) -> Styled {
    match stage {
        State::Ok => styled("✓ yes", GOOD),
        State::Part => styled("◐ part", DOUBTFUL),
        State::Fail => styled("✗ no", BAD),
        State::Unknown => styled("? unsure", REMARK),
        State::Unseen => styled("? unseen", REMARK),
        State::Skipped => styled("· –", DIM),
    }
}

/// What filing does with a download, and whether that is what is wanted.
pub(crate) fn filing(state: Option<State>, does: Option<Does>) -> Styled {
    let word = match does {
        Some(Does::Links) => "link",
        Some(Does::Moves) => "move",
        Some(Does::Copies) => "copy",
        Some(Does::Fails) => "none",
        Some(Does::Unknown) => "file",
        None => "–",
    };
    match state {
        Some(State::Ok) if does.is_some() => styled(format!("✓ {word}"), GOOD),
        Some(State::Fail) => styled(format!("✗ {word}"), BAD),
        Some(State::Part) => styled(format!("◐ {word}"), DOUBTFUL),
        Some(State::Unknown | State::Unseen) => styled(format!("? {word}"), REMARK),
        _ => styled("· –", DIM),
    }
}

/// The answer to one need.
pub(crate) fn allowed(allowed: Option<bool>) -> Styled {
    match allowed {
        Some(true) => styled("✓ yes", GOOD),
        Some(false) => styled("✗ no", BAD),
        None => styled("? unsure", REMARK),
    }
}

/// The sign of a whole answer, without a word: the sentence beside it has the words.
pub(crate) fn sign(good: Option<bool>, doubtful: bool) -> Styled {
    match good {
        Some(true) if doubtful => styled("▲", DOUBTFUL),
        Some(true) => styled("✓", GOOD),
        Some(false) => styled("✗", BAD),
        None => styled("?", REMARK),
    }
}

/// A remark that deserves a second look.
pub(crate) fn doubt(text: impl fmt::Display) -> Styled {
    styled(text, DOUBTFUL)
}

/// What to do about a file.
pub(crate) fn suggestion(suggest: Suggest) -> Styled {
    match suggest {
        Suggest::Keep => styled("✓ keep", GOOD),
        Suggest::Drop => styled("− drop", AnsiColor::Red.on_default()),
        Suggest::Link => styled("= link", REMARK),
        Suggest::Look => styled("? look", DOUBTFUL),
    }
}

/// How far a step is.
pub(crate) fn step_state(state: StepState) -> Styled {
    match state {
        StepState::Planned => styled("· planned", DIM),
        StepState::Done => styled("✓ done", GOOD),
        StepState::Refused => styled("✗ refused", BAD),
        StepState::Undone => styled("✓ undone", GOOD),
    }
}

/// A severity, as findings begin with it.
pub(crate) fn severity(severity: Severity) -> Styled {
    match severity {
        Severity::Blocker => styled("✗ blocker", BAD),
        Severity::Risk => styled("▲ risk", DOUBTFUL),
        Severity::Note => styled("○ note", REMARK),
    }
}

/// The verdict of a row.
pub(crate) fn verdict(text: &str, ready: bool) -> Styled {
    styled(text, if ready { GOOD } else { Style::new() })
}

/// A place where the way is broken.
pub(crate) fn broken(text: impl fmt::Display) -> Styled {
    styled(text, BAD)
}
