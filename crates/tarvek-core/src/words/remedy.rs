//! What clears a finding, as data: text, JSON, scripts and reports all render the same steps.

use std::fmt;

use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::text::{shell_quoted, shown};
use crate::words::value::Value;

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

    /// With one more argument that is no option, whatever it starts with (POSIX, utility syntax
    /// guideline 10).
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

/// A change of one part of the layout.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edit {
    pub part: Part,
    /// The key in it; empty where the part is a value itself, or goes as a whole.
    pub key: &'static str,
    pub change: Change,
    /// The line in which the part begins, from 1; 0 where that is not known.
    pub line: u32,
}

/// What becomes of a key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// It gets this value, whatever it had.
    Set(Value),
    /// Its list gets one more item.
    Add(Value),
    /// It goes.
    Remove,
}

impl fmt::Display for Edit {
    /// As an imperative.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { part, key, change, .. } = self;
        let phrase = part.phrase();
        match (change, *key) {
            (Change::Set(Value::Text(to)), "") => {
                write!(f, "change {phrase} to {}", shown(to.as_bytes()))
            }
            (Change::Set(to), "") => write!(f, "set {phrase} to {to}"),
            (Change::Set(to), key) => write!(f, "set {key} = {to} for {phrase}"),
            (Change::Add(item), key) => write!(f, "add {item} to {key} of {phrase}"),
            (Change::Remove, "") => write!(f, "remove {phrase}"),
            (Change::Remove, key) => write!(f, "remove {key} from {phrase}"),
        }
    }
}

/// One thing to be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// A command, typed on a host.
    Run { on: Name, run: Command },
    /// A change of the layout.
    Edit(Edit),
    /// What no command does by itself, on a host or elsewhere.
    Do { on: Option<Name>, words: String },
}

impl Step {
    /// A command on a host.
    pub fn run(on: &Name, run: Command) -> Self {
        Self::Run { on: on.clone(), run }
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
            Self::Edit(_) => None,
        }
    }

    /// Where it is done, as a sentence begins with it: `on granary: `, `in tarvek.toml line 12: `;
    /// nothing where that is open.
    pub fn place(&self, layout: &str) -> String {
        match self {
            Self::Edit(edit) if edit.line > 0 => format!("in {layout} line {}: ", edit.line),
            Self::Edit(_) => format!("in {layout}: "),
            _ => self.host().map(|host| format!("on {host}: ")).unwrap_or_default(),
        }
    }

    /// The change of the layout, if it is one.
    pub fn edit(&self) -> Option<&Edit> {
        match self {
            Self::Edit(edit) => Some(edit),
            _ => None,
        }
    }
}

impl fmt::Display for Step {
    /// What is done, without where.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Run { run, .. } => run.fmt(f),
            Self::Edit(edit) => edit.fmt(f),
            Self::Do { words, .. } => f.write_str(words),
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

impl Remedy {
    /// In one line, with the file in which the layout is edited.
    pub fn in_file(&self, layout: &str) -> String {
        let mut text = String::new();
        let mut before = None;
        for step in &self.steps {
            if !text.is_empty() {
                text += "; ";
            }
            let place = step.place(layout);
            if before.as_ref() != Some(&place) {
                text += &place;
            }
            text += &step.to_string();
            before = Some(place);
        }
        text
    }

    /// The changes of the layout among its steps, in their order.
    pub fn edits(&self) -> impl Iterator<Item = &Edit> {
        self.steps.iter().filter_map(Step::edit)
    }
}

impl fmt::Display for Remedy {
    /// In one line; a host is named where it changes.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.in_file("the layout"))
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
        let text = "on granary: chmod -t '/loft/a b'; chmod -t '/loft/c;d'; write it; on \
                    mill\\nrace: look again";
        assert_eq!(remedy.to_string(), text);
        let odd = Command::new("usermod -u 1").operand("-r; x").operand("plain");
        assert_eq!(odd.to_string(), "usermod -u 1 -- '-r; x' plain");
        assert_eq!(Remedy::default().to_string(), "");
    }
}
