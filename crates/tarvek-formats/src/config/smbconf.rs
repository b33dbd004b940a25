//! `smb.conf(5)`, as `testparm(1)` reads it.

use std::collections::{HashMap, HashSet};
use std::path::Path;

use tarvek_core::facts::configured::{Fact, Flaw, ShareFact};
use tarvek_core::words::name::Name;
use tarvek_core::words::offer::SmbOffer;
use tarvek_core::words::secret;
use tarvek_core::words::spot::Spot;

use super::around::{Around, File};
use super::collect::{Collect, number, spot};

/// Files include each other no deeper (`MAX_INCLUDE_DEPTH` of the server).
const DEEPEST: usize = 100;

/// Includes of a file together are no more than these.
const MOST_INCLUDES: usize = 1000;

/// The parameters of a section, by their plain names, each with the line that says it last.
type Parameters = HashMap<String, (String, Spot)>;

struct Section {
    name: String,
    spot: Spot,
    parameters: Parameters,
    /// What it says itself, and has not from `[global]` or a copy.
    own: HashSet<String>,
}

#[derive(Default)]
struct Reading {
    /// What sections that follow begin with.
    global: Parameters,
    sections: Vec<Section>,
    /// Where each stands, by its name in small letters.
    places: HashMap<String, usize>,
    /// The section at hand; `None` in `[global]`, where a file begins.
    at: Option<usize>,
    includes: usize,
}

/// Other names of a parameter; `true` where it says the opposite.
const SYNONYMS: [(&str, &str, bool); 15] = [
    ("writeable", "readonly", true),
    ("writable", "readonly", true),
    ("writeok", "readonly", true),
    ("public", "guestok", false),
    ("onlyguest", "guestonly", false),
    ("directory", "path", false),
    ("createmode", "createmask", false),
    ("directorymode", "directorymask", false),
    ("group", "forcegroup", false),
    ("vfsobject", "vfsobjects", false),
    ("printok", "printable", false),
    ("casesignames", "casesensitive", false),
    ("allowhosts", "hostsallow", false),
    ("denyhosts", "hostsdeny", false),
    ("browsable", "browseable", false),
];

/// Parameters that are yes or no.
const TRUTHS: [&str; 7] =
    ["readonly", "guestok", "guestonly", "available", "printable", "widelinks", "browseable"];

/// Parameters that are permission bits.
const MASKS: [&str; 4] = ["createmask", "directorymask", "forcecreatemode", "forcedirectorymode"];

/// Reads a file and what it includes.
pub(crate) fn read(file: &File, around: &Around, out: &mut Collect) {
    let mut reading = Reading::default();
    reading.file(&file.name, &file.path, &file.text, around, 0, out);
    reading.end();
    for section in &reading.sections {
        tell(section, out);
    }
}

fn refuse(at: &Spot, why: String, out: &mut Collect) {
    out.skip(at, why.clone());
    out.flaw(at, Flaw::Refused { by: "smbd", why });
}

/// A name without its spaces, in small letters.
fn plain(name: &str) -> String {
    name.chars().filter(|c| !c.is_whitespace()).flat_map(char::to_lowercase).collect()
}

impl Reading {
    fn file(
        &mut self,
        name: &Name,
        path: &Path,
        text: &str,
        around: &Around,
        depth: usize,
        out: &mut Collect,
    ) {
        out.open(name, text, "smb.conf");
        for (line, text) in lines(text) {
            let at = spot(name, line);
            if let Some(section) = text.strip_prefix('[') {
                match section.split_once(']') {
                    Some((section, _)) => self.section(section, at),
                    None => refuse(&at, "a section has no closing bracket".into(), out),
                }
                continue;
            }
            let Some((key, value)) = text.split_once('=') else {
                refuse(&at, "it is no `name = value`".into(), out);
                continue;
            };
            let (key, value) = (plain(key), value.trim());
            let (key, opposite) = SYNONYMS
                .iter()
                .find(|(known, ..)| *known == key)
                .map_or((key.as_str(), false), |(_, key, opposite)| (*key, *opposite));
            match key {
                "include" => self.include(path, value, &at, around, depth, out),
                "copy" => self.copy(value, &at, out),
                _ => self.parameter(key, value, opposite, at, out),
            }
        }
    }

    fn section(&mut self, name: &str, spot: Spot) {
        self.end();
        let name = name.split_whitespace().collect::<Vec<_>>().join(" ");
        let key = name.to_lowercase();
        if key == "global" || key == "globals" {
            self.at = None;
            return;
        }
        let at = *self.places.entry(key).or_insert_with(|| {
            let parameters = self.global.clone();
            self.sections.push(Section { name, spot, parameters, own: HashSet::new() });
            self.sections.len() - 1
        });
        self.at = Some(at);
    }

    /// A section that ends without a path is not available, also if a later part of it has one
    /// (`service_ok` in the server).
    fn end(&mut self) {
        let Some(at) = self.at else { return };
        let section = &mut self.sections[at];
        let has =
            |key: &str| section.parameters.get(key).is_some_and(|(value, _)| !value.is_empty());
        let printer = section.parameters.get("printable").is_some_and(|(value, _)| value == "yes");
        if !has("path") && !printer && !section.name.eq_ignore_ascii_case("homes") {
            let no = ("no".to_owned(), section.spot.clone());
            section.parameters.insert("available".to_owned(), no);
        }
    }

    fn parameter(&mut self, key: &str, value: &str, opposite: bool, at: Spot, out: &mut Collect) {
        // A path is a path; in what else is a list, a part of a secret may stand behind a comma.
        let mut value = if key == "path" { value.to_owned() } else { secret::hide(value) };
        if TRUTHS.contains(&key) {
            match truth(&value) {
                Some(truth) => value = if truth != opposite { "yes" } else { "no" }.into(),
                None => return refuse(&at, format!("{value:?} is neither yes nor no"), out),
            }
        }
        if MASKS.contains(&key) && mask(&value).is_none() {
            return refuse(&at, format!("{value:?} is no octal number"), out);
        }
        let here = match self.at {
            Some(section) => {
                let section = &mut self.sections[section];
                section.own.insert(key.to_owned());
                &mut section.parameters
            }
            None => &mut self.global,
        };
        here.insert(key.to_owned(), (value, at));
    }

    fn copy(&mut self, from: &str, at: &Spot, out: &mut Collect) {
        let from = from.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase();
        let source = self.places.get(&from).copied().filter(|source| Some(*source) != self.at);
        let (Some(source), Some(to)) = (source, self.at) else {
            return refuse(at, format!("there is no section {from:?} above to copy"), out);
        };
        let mut copied = self.sections[source].parameters.clone();
        let to = &mut self.sections[to];
        for key in &to.own {
            if let Some(own) = to.parameters.get(key) {
                copied.insert(key.clone(), own.clone());
            }
        }
        to.parameters = copied;
    }

    fn include(
        &mut self,
        path: &Path,
        value: &str,
        at: &Spot,
        around: &Around,
        depth: usize,
        out: &mut Collect,
    ) {
        self.includes += 1;
        if value.eq_ignore_ascii_case("registry") {
            return out.skip(at, "settings in the registry can't be seen from here");
        }
        if value.contains('%') {
            return out.skip(at, "which file it is depends on who connects");
        }
        if depth >= DEEPEST || self.includes > MOST_INCLUDES {
            return out.skip(at, "files include each other without end");
        }
        let file = path.parent().unwrap_or(Path::new("/")).join(value.trim_matches('"'));
        let name = file.to_string_lossy().as_ref().into();
        match (around.read)(&file) {
            Ok(bytes) => {
                let text = String::from_utf8_lossy(&bytes);
                out.open_followed(&name, &text, "smb.conf");
                self.file(&name, &file, &text, around, depth + 1, out);
            }
            Err(why) => out.skip(at, format!("can't read {name}: {why}")),
        }
    }
}

/// Lines without comments, with what continues them, by the number of the first.
fn lines(text: &str) -> Vec<(u32, String)> {
    let mut whole: Vec<(u32, String)> = Vec::new();
    let mut open = false;
    for (n, line) in text.lines().enumerate() {
        let line = line.trim();
        if !open && (line.is_empty() || line.starts_with([';', '#'])) {
            continue;
        }
        let (part, more) = line.strip_suffix('\\').map_or((line, false), |part| (part, true));
        match whole.last_mut().filter(|_| open) {
            Some((_, before)) => before.push_str(part),
            None => whole.push((number(n), part.to_owned())),
        }
        open = more;
    }
    whole
}

fn truth(text: &str) -> Option<bool> {
    match text.to_ascii_lowercase().as_str() {
        "yes" | "true" | "on" | "1" => Some(true),
        "no" | "false" | "off" | "0" => Some(false),
        _ => None,
    }
}

fn mask(text: &str) -> Option<u16> {
    u16::from_str_radix(text, 8).ok().filter(|mask| *mask <= 0o7777)
}

/// Names that part at spaces, commas and semicolons outside of quotation marks.
pub(super) fn names(text: &str) -> Vec<Name> {
    let mut names: Vec<String> = Vec::new();
    let (mut quoted, mut open) = (false, false);
    for c in text.chars() {
        match c {
            '"' => quoted = !quoted,
            _ if !quoted && (c.is_whitespace() || matches!(c, ',' | ';')) => open = false,
            _ => {
                if !open {
                    names.push(String::new());
                    open = true;
                }
                if let Some(name) = names.last_mut() {
                    name.push(c);
                }
            }
        }
    }
    names.into_iter().map(Name::from).collect()
}

fn tell(section: &Section, out: &mut Collect) {
    let text = |key: &str| section.parameters.get(key).map(|(value, _)| value.as_str());
    let is = |key: &str| text(key) == Some("yes");
    let list = |key: &str| names(text(key).unwrap_or_default());
    let one = |key: &str| text(key).filter(|value| !value.is_empty()).map(Name::from);
    let bits = |key: &str| text(key).and_then(mask);
    let homes = section.name.eq_ignore_ascii_case("homes");
    let path = text("path").map(|path| path.trim_matches('"')).filter(|path| !path.is_empty());
    // A printer is no folder.
    if is("printable") {
        return;
    }
    if text("available") == Some("no") {
        let why = if path.is_none() {
            "a share without a path is not offered"
        } else {
            "it is not available"
        };
        return out.skip(&section.spot, why);
    }
    let Some(path) = path.or(homes.then_some("%H")) else { return };
    let recycle = list("vfsobjects").iter().any(|object| *object == "recycle");
    let offer = SmbOffer {
        guests: is("guestok"),
        guest_only: is("guestonly") && is("guestok"),
        only: list("validusers"),
        deny: list("invalidusers"),
        writable: text("readonly") == Some("no"),
        read: list("readlist"),
        write: list("writelist"),
        admins: list("adminusers"),
        force_user: one("forceuser"),
        force_group: one("forcegroup"),
        create_mask: bits("createmask"),
        folder_mask: bits("directorymask"),
        force_create_mode: bits("forcecreatemode"),
        force_folder_mode: bits("forcedirectorymode"),
        recycle,
        // One that leads out of the share is no folder of it.
        recycle_folder: one("recycle:repository")
            .filter(|folder| recycle && !folder.raw().split('/').any(|part| part == "..")),
    };
    let fact =
        ShareFact { name: section.name.as_str().into(), path: path.as_bytes().to_vec(), offer };
    out.fact(&section.spot, Fact::Share(fact));
}
