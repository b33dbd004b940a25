//! How a command ends: the exit code, and what is said when there is no answer.

use std::fmt;
use std::io;
use std::process::ExitCode;

use tarvek_core::words::secret;
use tarvek_core::words::text::shown;
use tarvek_formats::guard::Panicked;
use tarvek_formats::mistake::Refused;

use crate::view::{Screen, mistakes};

/// What a command that could answer has to say in its exit code.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Outcome {
    /// Nothing at or above the threshold; everything asked is possible.
    Fine,
    /// Findings, or denied.
    Found,
    /// The question could not be answered, and the answer given says why.
    Unanswered,
}

impl Outcome {
    /// Of everything that was asked for: one denial denies it, and what is unknown leaves it
    /// unanswered.
    pub(crate) fn of(answers: &[Option<bool>]) -> Self {
        if answers.contains(&Some(false)) {
            Self::Found
        } else if answers.contains(&None) {
            Self::Unanswered
        } else {
            Self::Fine
        }
    }
}

impl From<Outcome> for ExitCode {
    fn from(outcome: Outcome) -> Self {
        match outcome {
            Outcome::Fine => Self::SUCCESS,
            Outcome::Found => Self::from(1),
            Outcome::Unanswered => Self::from(2),
        }
    }
}

/// Why a command could not answer.
#[derive(Debug)]
pub(crate) enum Failure {
    /// A file with mistakes.
    Refused(Box<Refused>),
    /// Anything else, with what to do about it.
    Message { message: String, remedy: Option<String> },
    /// Whoever read the output went away; there is nobody to tell.
    Unheard,
}

impl Failure {
    /// A fault of the program itself.
    pub(crate) fn by_a_fault(panicked: &Panicked) -> Self {
        Self::with_remedy(
            format!("Tarvek has a fault, and stops here: {}", shown(panicked.message.as_bytes())),
            "report it, with the command and what it read, if that may be seen",
        )
    }

    /// A failure with a remedy.
    pub(crate) fn with_remedy(message: impl fmt::Display, remedy: impl fmt::Display) -> Self {
        Self::Message { message: message.to_string(), remedy: Some(remedy.to_string()) }
    }

    /// A failure that speaks for itself.
    pub(crate) fn new(message: impl fmt::Display) -> Self {
        Self::Message { message: message.to_string(), remedy: None }
    }

    /// Says it on stderr.
    pub(crate) fn report(self, screen: &Screen) -> ExitCode {
        match self {
            Self::Refused(refused) => screen.complain(&mistakes::text(&refused, screen.width())),
            Self::Message { message, remedy } => {
                let remedy = remedy.map(|remedy| format!("\n        {remedy}")).unwrap_or_default();
                screen.complain(&secret::hide(&format!("tarvek: {message}{remedy}\n")));
            }
            Self::Unheard => {}
        }
        ExitCode::from(2)
    }
}

impl From<Refused> for Failure {
    fn from(refused: Refused) -> Self {
        Self::Refused(Box::new(refused))
    }
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Self {
        match error.kind() {
            io::ErrorKind::BrokenPipe => Self::Unheard,
            _ => Self::new(error),
        }
    }
}
