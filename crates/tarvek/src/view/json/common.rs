//! What several documents have in common.

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::remedy::{Change, Edit, Remedy, Step};
use tarvek_formats::layout::document::{LayoutDocument, json_of};

use crate::inputs::LayoutFile;

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

/// The layout that edits are made in: its file, and where its parts stand there.
pub(crate) struct EditedLayout<'a> {
    pub(crate) file: &'a str,
    document: LayoutDocument<'a>,
}

impl<'a> EditedLayout<'a> {
    pub(crate) fn new(file: &'a LayoutFile, layout: &'a Layout) -> Self {
        Self { file: &file.name, document: LayoutDocument::new(&file.text, layout) }
    }
}

/// One thing to be done, for programs: a command on a host (`run`), a change of the layout (`set`,
/// `add` or `remove`), or something for a person (`do`).
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
    /// The place in the TOML document that gets another value: tables by name, arrays by index, as
    /// the file stands before the first step.
    #[serde(skip_serializing_if = "Option::is_none")]
    set: Option<String>,
    /// The list in the TOML document that gets one more item.
    #[serde(skip_serializing_if = "Option::is_none")]
    add: Option<String>,
    /// The place in the TOML document that goes.
    #[serde(skip_serializing_if = "Option::is_none")]
    remove: Option<String>,
    /// The file that is changed.
    #[serde(skip_serializing_if = "Option::is_none")]
    file: Option<String>,
    /// The line of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    line: Option<u32>,
    /// What is set so far, if anything is.
    #[serde(skip_serializing_if = "Option::is_none")]
    from: Option<Value>,
    /// What it is set to.
    #[serde(skip_serializing_if = "Option::is_none")]
    to: Option<Value>,
    /// What is added, or goes.
    #[serde(skip_serializing_if = "Option::is_none")]
    value: Option<Value>,
    /// Where the part was adopted from.
    #[serde(skip_serializing_if = "Option::is_none")]
    origin: Option<OriginDoc>,
    /// What is for a person to do.
    #[serde(rename = "do", skip_serializing_if = "Option::is_none")]
    words: Option<String>,
}

/// A place in configuration that was adopted.
#[derive(Debug, Serialize, JsonSchema)]
struct OriginDoc {
    file: String,
    line: u32,
}

impl StepDoc {
    pub(super) fn new(step: &Step, layout: &EditedLayout) -> Self {
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
            Step::Edit(edit) => Self::of_edit(edit, layout),
            Step::Do { words, .. } => Self { on, words: Some(words.clone()), ..Self::default() },
        }
    }

    fn of_edit(edit: &Edit, layout: &EditedLayout) -> Self {
        let Some(found) = layout.document.find_edited(edit) else {
            return Self { words: Some(edit.to_string()), ..Self::default() };
        };
        let spot = layout.document.layout().adopted.of_edit(edit);
        let origin =
            spot.map(|spot| OriginDoc { file: spot.file.raw().to_owned(), line: spot.line });
        let (file, line) = (Some(layout.file.to_owned()), Some(found.line));
        let step = Self { file, line, origin, ..Self::default() };
        match &edit.change {
            Change::Set(to) => {
                Self { set: Some(found.path), from: found.now, to: Some(json_of(to)), ..step }
            }
            Change::Add(item) => Self { add: Some(found.path), value: Some(json_of(item)), ..step },
            Change::Remove => Self { remove: Some(found.path), value: found.now, ..step },
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
    pub(super) fn new(remedy: &Remedy, layout: &EditedLayout) -> Self {
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
    use tarvek_core::words::part::Part;
    use tarvek_core::words::remedy::Command;

    #[test]
    fn a_step_says_to_programs_what_its_words_say_to_people() {
        let granary = "granary".into();
        let chmod = |path: &[u8]| Step::run(&granary, Command::new("chmod -t").arg(path));
        let text = "tarvek = 1\nsite = \"Loft\"\n[host.granary]\nrole = \"storage\"\n\
                    [service.lantern]\nhost = \"granary\"\nrole = \"serve\"\nmap = [\n\
                    { from = \"/loft\", to = \"/media\", label = \"private\" },\n]\n";
        let file = LayoutFile { name: "tarvek.toml".into(), text: text.into() };
        let layout = tarvek_formats::layout::read("tarvek.toml", text.as_bytes()).unwrap();
        let edited = EditedLayout::new(&file, &layout);
        let map = || Part::mapping(&"lantern".into(), &"/media".into());
        for (step, json) in [
            (chmod(b"/a b"), r#"{"on":"granary","run":["chmod","-t","/a b"]}"#),
            (
                chmod(b"/\xff"),
                "{\"on\":\"granary\",\"run\":[\"chmod\",\"-t\",\"/\u{fffd}\"],\"run_bytes\":[\"Y2htb2Q=\",\"LXQ=\",\"L/8=\"]}",
            ),
            (
                layout.set(Part::Site, "site", "Mill"),
                r#"{"set":"site","file":"tarvek.toml","line":2,"from":"Loft","to":"Mill"}"#,
            ),
            (
                layout.set(map(), "access", "ro"),
                r#"{"set":"service.lantern.map[0].access","file":"tarvek.toml","line":9,"to":"ro"}"#,
            ),
            (
                layout.add(Part::Host("granary".into()), "addresses", "granary.lan"),
                r#"{"add":"host.granary.addresses","file":"tarvek.toml","line":3,"value":"granary.lan"}"#,
            ),
            (
                layout.remove(map(), "label"),
                r#"{"remove":"service.lantern.map[0].label","file":"tarvek.toml","line":9,"value":"private"}"#,
            ),
            (Step::words("look"), r#"{"do":"look"}"#),
            (Step::on(&granary, "look"), r#"{"on":"granary","do":"look"}"#),
        ] {
            let document = StepDoc::new(&step, &edited);
            assert_eq!(serde_json::to_string(&document).unwrap(), json);
        }
    }
}
