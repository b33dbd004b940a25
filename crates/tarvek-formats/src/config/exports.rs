//! `exports(5)`, as `exportfs(8)` reads it.

use std::collections::HashSet;

use tarvek_core::facts::configured::{ExportFact, Fact, Flaw};
use tarvek_core::words::name::Name;
use tarvek_core::words::offer::{NfsExport, Squash};
use tarvek_core::words::spot::Spot;
use tarvek_core::words::terms::Access;

use super::collect::{Collect, number, spot};

/// Options that stand alone.
const FLAGS: [&str; 40] = [
    "ro",
    "rw",
    "secure",
    "insecure",
    "sync",
    "async",
    "hide",
    "nohide",
    "wdelay",
    "no_wdelay",
    "root_squash",
    "no_root_squash",
    "all_squash",
    "no_all_squash",
    "subtree_check",
    "no_subtree_check",
    "auth_nlm",
    "no_auth_nlm",
    "secure_locks",
    "insecure_locks",
    "acl",
    "no_acl",
    "crossmnt",
    "nocrossmnt",
    "pnfs",
    "no_pnfs",
    "security_label",
    "nordirplus",
    "mountpoint",
    "mp",
    "fsid",
    "refer",
    "replicas",
    "sec",
    "anonuid",
    "anongid",
    "xprtsec",
    "reexport",
    "squash_uids",
    "squash_gids",
];

/// Options whose value is a number.
const NUMBERS: [&str; 2] = ["anonuid", "anongid"];

/// Reads a file.
pub(crate) fn read(file: &Name, text: &str, out: &mut Collect) {
    out.open(file, text, "exports");
    let mut known = HashSet::new();
    for (line, text) in lines(text) {
        let at = spot(file, line);
        match words(&text) {
            Ok(words) => export(&words, true, &at, &mut known, out),
            Err((words, why)) => {
                export(&words, false, &at, &mut known, out);
                refuse(&at, why, out);
            }
        }
    }
}

fn refuse(at: &Spot, why: impl Into<String>, out: &mut Collect) {
    let why = why.into();
    out.skip(at, &why);
    out.flaw(at, Flaw::Refused { by: "exportfs", why });
}

/// Lines with what continues them, by the number of the first.
fn lines(text: &str) -> Vec<(u32, String)> {
    let mut whole: Vec<(u32, String)> = Vec::new();
    let mut continues = false;
    for (n, line) in text.split('\n').enumerate() {
        let line = line.strip_suffix('\r').unwrap_or(line);
        let (part, more) = line.strip_suffix('\\').map_or((line, false), |part| (part, true));
        match whole.last_mut().filter(|_| continues) {
            Some((_, before)) => {
                before.push(' ');
                before.push_str(part);
            }
            None => whole.push((number(n), part.to_owned())),
        }
        continues = more;
    }
    whole
}

/// A word without its quotation marks and escapes.
type Word = String;

/// Words at spaces that stand in no quotation marks, up to a hash that begins one; with why there are no more.
fn words(line: &str) -> Result<Vec<Word>, (Vec<Word>, String)> {
    let mut words = Vec::new();
    let mut rest = line.trim_start();
    while !rest.is_empty() && !rest.starts_with('#') {
        let (mut quoted, mut depth, mut end) = (false, 0_i32, rest.len());
        for (at, c) in rest.char_indices() {
            match c {
                '"' => quoted = !quoted,
                '(' if !quoted => depth += 1,
                ')' if !quoted => depth -= 1,
                _ if !quoted && c.is_ascii_whitespace() => {
                    end = at;
                    break;
                }
                _ => {}
            }
        }
        let word = &rest[..end];
        if quoted {
            return Err((words, "a quotation mark has no second one".into()));
        }
        let plain = unescaped(&word.replace('"', ""));
        words.push(plain);
        if depth > 0 {
            let word = words.pop().unwrap_or_default();
            let why = format!("{word:?} opens a bracket that is not closed in the word");
            return Err((words, why));
        }
        rest = rest[end..].trim_start();
    }
    Ok(words)
}

fn unescaped(word: &str) -> String {
    String::from_utf8_lossy(&crate::escape::unescape(word.as_bytes())).into_owned()
}

/// What an export's options say.
#[derive(Clone, Default)]
struct Options {
    /// As they are written.
    all: Vec<String>,
}

impl Options {
    /// With more of them.
    ///
    /// # Errors
    /// The option that `exportfs` does not know.
    fn with(&self, text: &str) -> Result<Self, String> {
        let mut options = self.clone();
        for option in text.split(',') {
            let (name, value) =
                option.split_once('=').map_or((option, None), |(n, v)| (n, Some(v)));
            if !FLAGS.contains(&name) {
                return Err(format!("{option:?} is no option of an export"));
            }
            if NUMBERS.contains(&name) && value.and_then(number_of).is_none() {
                return Err(format!("{option:?} has no number"));
            }
            options.all.push(option.to_owned());
        }
        Ok(options)
    }

    /// What it comes to for clients. What follows a `sec=` holds for those flavours only; who comes as AUTH_SYS gets what is said
    /// for that one, or else for the first.
    fn export(self, clients: &str) -> NfsExport {
        let mut flavours: Vec<(bool, NfsExport)> = Vec::new();
        let mut plain = NfsExport {
            clients: clients.into(),
            access: Access::ReadOnly,
            squash: Squash::Root,
            anonuid: None,
            anongid: None,
            crossmnt: false,
            options: Vec::new(),
        };
        let mut squash = (true, false);
        for option in &self.all {
            let (name, value) = option.split_once('=').unwrap_or((option, ""));
            if name == "sec" {
                let is_sys = value.split(':').any(|flavour| flavour == "sys");
                flavours.push((is_sys, plain.clone()));
                continue;
            }
            match name {
                "root_squash" => squash.0 = true,
                "no_root_squash" => squash.0 = false,
                "all_squash" => squash.1 = true,
                "no_all_squash" => squash.1 = false,
                "anonuid" => plain.anonuid = number_of(value),
                "anongid" => plain.anongid = number_of(value),
                "crossmnt" => plain.crossmnt = true,
                "nocrossmnt" => plain.crossmnt = false,
                "ro" => plain.access = Access::ReadOnly,
                "rw" => plain.access = Access::ReadWrite,
                _ => {}
            }
            plain.squash = match squash {
                (_, true) => Squash::All,
                (true, false) => Squash::Root,
                (false, false) => Squash::None,
            };
            if let Some((_, flavour)) = flavours.last_mut()
                && matches!(
                    name,
                    "ro" | "rw" | "root_squash" | "no_root_squash" | "all_squash" | "no_all_squash"
                )
            {
                (flavour.access, flavour.squash) = (plain.access, plain.squash);
            }
        }
        let sys =
            flavours.iter().position(|(is_sys, _)| *is_sys).or((!flavours.is_empty()).then_some(0));
        if let Some(at) = sys {
            (plain.access, plain.squash) = (flavours[at].1.access, flavours[at].1.squash);
        }
        plain.options = self.all;
        plain
    }
}

/// Ids may be written as they are stored, with a sign.
fn number_of(text: &str) -> Option<u32> {
    text.parse::<u32>().ok().or_else(|| text.parse::<i32>().ok().map(i32::cast_unsigned))
}

/// The exports of a line, or of as much of it as can be read.
fn export(
    words: &[Word],
    whole: bool,
    at: &Spot,
    known: &mut HashSet<(String, String)>,
    out: &mut Collect,
) {
    let Some((path, rest)) = words.split_first() else { return };
    if !path.starts_with('/') {
        out.skip(at, format!("an export begins with an absolute path, and {path:?} is none"));
        return;
    }
    let mut defaults = Options::default();
    let mut before: Option<&str> = None;
    let mut any = false;
    for word in rest {
        if let Some(options) = word.strip_prefix('-') {
            match defaults.with(options) {
                Ok(more) => defaults = more,
                Err(why) => return refuse(at, why, out),
            }
            continue;
        }
        any = true;
        let (client, options) = match word.split_once('(') {
            None => (word.as_str(), None),
            Some((client, rest)) => match rest.strip_suffix(')') {
                Some(options) if !options.contains(['(', ')']) => (client, Some(options)),
                _ => return refuse(at, format!("{word:?} has a stray bracket"), out),
            },
        };
        let read = match options.filter(|options| !options.is_empty()) {
            Some(options) => defaults.with(options),
            None => Ok(defaults.clone()),
        };
        let options = match read {
            Ok(options) => options,
            Err(why) => return refuse(at, why, out),
        };
        let stray_space = before.filter(|_| client.is_empty()).map(Name::from);
        before = Some(client).filter(|_| word.find('(').is_none());
        tell(path, client, options, stray_space, at, known, out);
    }
    // Nobody named is everybody.
    if !any && whole {
        tell(path, "", defaults, None, at, known, out);
    }
}

fn tell(
    path: &str,
    client: &str,
    options: Options,
    stray_space: Option<Name>,
    at: &Spot,
    known: &mut HashSet<(String, String)>,
    out: &mut Collect,
) {
    let client = if client.is_empty() { "*" } else { client };
    if let Some((_, prefix)) = client.split_once('/')
        && let Ok(length) = prefix.parse::<u32>()
        && length > if client.contains(':') { 128 } else { 32 }
    {
        out.skip(at, format!("{client} is no network: its prefix is too long"));
        return;
    }
    if !known.insert((path.to_owned(), client.to_owned())) {
        out.skip(at, format!("{client} stands before with {path}; exportfs ignores the second"));
        return;
    }
    let fact =
        ExportFact { path: path.as_bytes().to_vec(), export: options.export(client), stray_space };
    out.fact(at, Fact::Export(fact));
}
