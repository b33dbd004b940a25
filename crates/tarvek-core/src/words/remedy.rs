//! What clears a finding, as data: text, JSON, scripts and reports all render the same steps.

use std::fmt;

use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::text::shell_quoted;

/// A command with its arguments, as bytes, since a path may be among them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Command(Vec<Vec<u8>>);

impl Command {
    /// From the words of a command line that has no odd characters in it.
    pub fn new(words: &str) -> Self {
        Self(words.split_ascii_whitespace().map(|word| word.as_bytes().to_vec()).collect())
    }

    /// With more arguments that have no odd characters in them.
    pub fn args(mut self, words: &str) -> Self {
        self.0.extend(Self::new(words).0);
        self
    }

    /// With one more argument, whatever is in it.
    pub fn arg(mut self, argument: impl AsRef<[u8]>) -> Self {
        self.0.push(argument.as_ref().to_vec());
        self
    }

    /// With one more argument that is no option, whatever it starts with (POSIX, utility syntax guideline 10).
    pub fn operand(self, argument: impl AsRef<[u8]>) -> Self {
        let dashes = argument.as_ref().starts_with(b"-").then_some("--");
        dashes.into_iter().fold(self, Self::arg).arg(argument)
    }

    /// The command and its arguments.
    pub fn words(&self) -> &[Vec<u8>] {
        &self.0
    }
}

impl fmt::Display for Command {
    /// As a POSIX shell takes it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let quoted: Vec<String> = self.0.iter().map(|word| shell_quoted(word)).collect();
        f.write_str(&quoted.join(" "))
    }
}

/// One thing to be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// A command, typed on a host.
    Run { on: Name, run: Command },
    /// In a line of the layout a text becomes another one; `words` say the same to a person.
    Edit { line: u32, from: String, to: String, words: String },
    /// What no command does by itself, on a host or in the layout.
    Do { on: Option<Name>, words: String },
}

impl Step {
    /// A command on a host.
    pub fn run(on: &Name, run: Command) -> Self {
        Self::Run { on: on.clone(), run }
    }

    /// A path in a line of the layout, written anew. A path that is no text is for a person to write.
    pub fn rewritten(line: u32, from: &Name, to: &AbsPath, words: String) -> Self {
        match std::str::from_utf8(to.as_bytes()) {
            Ok(to) => Self::Edit { line, from: from.raw().to_owned(), to: to.to_owned(), words },
            Err(_) => Self::words(words),
        }
    }

    /// Something to be done somewhere.
    pub fn words(words: impl Into<String>) -> Self {
        Self::Do { on: None, words: words.into() }
    }

    /// Something to be done on a host.
    pub fn on(on: &Name, words: impl Into<String>) -> Self {
        Self::Do { on: Some(on.clone()), words: words.into() }
    }

    /// The host on which it is done; `None` for the layout.
    pub fn host(&self) -> Option<&Name> {
        match self {
            Self::Run { on, .. } => Some(on),
            Self::Do { on, .. } => on.as_ref(),
            Self::Edit { .. } => None,
        }
    }
}

impl fmt::Display for Step {
    /// What is done, without where.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Run { run, .. } => run.fmt(f),
            Self::Edit { words, .. } | Self::Do { words, .. } => f.write_str(words),
        }
    }
}

/// Makes an account of a host a member of one of its groups.
pub fn add_to_group(host: &Name, group: &str, account: &Name) -> Step {
    Step::run(host, Command::new("usermod -a -G").arg(group).operand(account.raw()))
}

/// What clears a finding, or gives what is refused.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Remedy {
    /// In this order.
    pub steps: Vec<Step>,
    /// What it changes for others, where that is known: a sentence each.
    pub effects: Vec<String>,
}

impl Remedy {
    /// Steps of which nobody has asked what they change for others.
    pub fn of(steps: Vec<Step>) -> Self {
        Self { steps, effects: Vec::new() }
    }
}

impl From<Vec<Step>> for Remedy {
    fn from(steps: Vec<Step>) -> Self {
        Self::of(steps)
    }
}

impl From<Step> for Remedy {
    fn from(step: Step) -> Self {
        Self::of(vec![step])
    }
}

impl From<String> for Remedy {
    fn from(words: String) -> Self {
        Step::words(words).into()
    }
}

impl From<&str> for Remedy {
    fn from(words: &str) -> Self {
        Step::words(words).into()
    }
}

impl fmt::Display for Remedy {
    /// In one line; a host is named where it changes.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut before = None;
        for (n, step) in self.steps.iter().enumerate() {
            f.write_str(if n == 0 { "" } else { "; " })?;
            if let Some(host) = step.host().filter(|host| before != Some(*host)) {
                write!(f, "on {host}: ")?;
            }
            before = step.host();
            write!(f, "{step}")?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_are_rendered_once_and_quoted() {
        let granary = Name::from("granary");
        let at = |path: &str| Step::run(&granary, Command::new("chmod -t").arg(path));
        let remedy = Remedy::of(vec![
            at("/loft/a b"),
            at("/loft/c;d"),
            Step::words("write it"),
            Step::on(&"mill\nrace".into(), "look again"),
        ]);
        let text = "on granary: chmod -t '/loft/a b'; chmod -t '/loft/c;d'; write it; on mill\\nrace: look again";
        assert_eq!(remedy.to_string(), text);
        let odd = Command::new("usermod -u 1").operand("-r; x").operand("plain");
        assert_eq!(odd.to_string(), "usermod -u 1 -- '-r; x' plain");
        assert_eq!(Remedy::default().to_string(), "");
    }
}
