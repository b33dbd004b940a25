//! What several documents have in common.

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use schemars::JsonSchema;
use serde::Serialize;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::remedy::{Remedy, Step};

/// A path as text and, where that loses something, as bytes.
#[derive(Debug, Serialize, JsonSchema)]
pub(super) struct Path {
    /// The path; bytes that are no UTF-8 are replaced.
    path: String,
    /// The exact bytes in base64, where the path is no UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    path_bytes: Option<String>,
}

impl Path {
    /// A path as a client writes it.
    pub(super) fn of_bytes(bytes: Vec<u8>) -> Self {
        Self { path: lossy(&bytes), path_bytes: exact(&bytes) }
    }
}

impl From<&AbsPath> for Path {
    fn from(path: &AbsPath) -> Self {
        Self { path: lossy(path), path_bytes: exact(path) }
    }
}

/// Two ends, as the viewpoint sees them.
#[derive(Debug, Serialize, JsonSchema)]
pub(super) struct FromTo {
    /// The source.
    from: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    from_bytes: Option<String>,
    /// The folder or name that it is to have.
    to: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    to_bytes: Option<String>,
}

impl FromTo {
    pub(super) fn new(from: &AbsPath, to: &AbsPath) -> Self {
        Self { from: lossy(from), from_bytes: exact(from), to: lossy(to), to_bytes: exact(to) }
    }
}

/// The exact bytes in base64, where they are no UTF-8.
pub(crate) fn exact(bytes: impl AsRef<[u8]>) -> Option<String> {
    let bytes = bytes.as_ref();
    std::str::from_utf8(bytes).is_err().then(|| BASE64_STANDARD.encode(bytes))
}

/// Bytes as text; those that are no UTF-8 are replaced.
pub(crate) fn lossy(bytes: impl AsRef<[u8]>) -> String {
    String::from_utf8_lossy(bytes.as_ref()).into_owned()
}

/// Somebody by numbers.
#[derive(Debug, Serialize, JsonSchema)]
pub(super) struct Identity {
    uid: u32,
    gid: u32,
    groups: Vec<u32>,
}

impl Identity {
    /// With the supplementary groups only.
    pub(super) fn supplementary(subject: &Subject) -> Self {
        Self { uid: subject.uid, gid: subject.gid, groups: subject.groups.clone() }
    }
}

impl From<&Subject> for Identity {
    /// With all groups, the primary one first.
    fn from(subject: &Subject) -> Self {
        let groups = std::iter::once(subject.gid).chain(subject.groups.iter().copied());
        Self { uid: subject.uid, gid: subject.gid, groups: groups.collect() }
    }
}

/// One thing to be done: a command that is run on a host, a text that becomes another one in a line of a file, or words.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub(super) struct StepDoc {
    /// The host on which it is done.
    #[serde(skip_serializing_if = "Option::is_none")]
    on: Option<String>,
    /// The command and its arguments; no shell is meant to read them.
    #[serde(skip_serializing_if = "Option::is_none")]
    run: Option<Vec<String>>,
    /// The same in base64, where one of them is no UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    run_bytes: Option<Vec<String>>,
    /// The file that is edited.
    #[serde(skip_serializing_if = "Option::is_none")]
    edit: Option<String>,
    /// The line of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    line: Option<u32>,
    /// The text in it that goes.
    #[serde(skip_serializing_if = "Option::is_none")]
    from: Option<String>,
    /// The text that comes in its place.
    #[serde(skip_serializing_if = "Option::is_none")]
    to: Option<String>,
    /// What is for a person to do.
    #[serde(rename = "do", skip_serializing_if = "Option::is_none")]
    words: Option<String>,
}

impl StepDoc {
    /// `layout` is the file that edits are made in.
    pub(super) fn new(step: &Step, layout: &str) -> Self {
        let on = step.host().map(|host| host.raw().to_owned());
        match step {
            Step::Run { run, .. } => {
                let words = run.words();
                let odd = words.iter().any(|word| exact(word).is_some());
                let bytes = || words.iter().map(|word| BASE64_STANDARD.encode(word)).collect();
                Self {
                    on,
                    run: Some(words.iter().map(lossy).collect()),
                    run_bytes: odd.then(bytes),
                    ..Self::default()
                }
            }
            Step::Edit { line, from, to, .. } => Self {
                edit: Some(layout.to_owned()),
                line: Some(*line),
                from: Some(from.clone()),
                to: Some(to.clone()),
                ..Self::default()
            },
            Step::Do { words, .. } => Self { on, words: Some(words.clone()), ..Self::default() },
        }
    }
}

/// What would give what is refused.
#[derive(Debug, Serialize, JsonSchema)]
pub(super) struct RemedyDoc {
    /// In this order.
    steps: Vec<CommandDoc>,
    /// What it changes for others, a sentence each.
    effects: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct CommandDoc {
    /// null for a change of the layout.
    host: Option<String>,
    /// As it is typed, or in words.
    command: String,
    /// The same for programs.
    #[serde(flatten)]
    step: StepDoc,
}

impl RemedyDoc {
    pub(super) fn new(remedy: &Remedy, layout: &str) -> Self {
        let step = |step: &Step| CommandDoc {
            host: step.host().map(|host| host.raw().to_owned()),
            command: step.to_string(),
            step: StepDoc::new(step, layout),
        };
        Self { steps: remedy.steps.iter().map(step).collect(), effects: remedy.effects.clone() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tarvek_core::words::remedy::Command;

    #[test]
    fn a_step_says_to_programs_what_its_words_say_to_people() {
        let granary = "granary".into();
        let chmod = |path: &[u8]| Step::run(&granary, Command::new("chmod -t").arg(path));
        let path = AbsPath::new(b"/media/films").unwrap();
        for (step, json) in [
            (chmod(b"/a b"), r#"{"on":"granary","run":["chmod","-t","/a b"]}"#),
            (
                chmod(b"/\xff"),
                "{\"on\":\"granary\",\"run\":[\"chmod\",\"-t\",\"/\u{fffd}\"],\"run_bytes\":[\"Y2htb2Q=\",\"LXQ=\",\"L/8=\"]}",
            ),
            (
                Step::rewritten(7, &"/flims".into(), &path, "write it".into()),
                r#"{"edit":"tarvek.toml","line":7,"from":"/flims","to":"/media/films"}"#,
            ),
            (Step::words("look"), r#"{"do":"look"}"#),
            (Step::on(&granary, "look"), r#"{"on":"granary","do":"look"}"#),
        ] {
            let document = StepDoc::new(&step, "tarvek.toml");
            assert_eq!(serde_json::to_string(&document).unwrap(), json);
        }
    }
}
