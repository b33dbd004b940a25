//! `exports(5)`, as `exportfs(8)` reads it.

use std::collections::HashSet;

use tarvek_core::facts::configured::{ExportFact, Fact, Flaw};
use tarvek_core::words::name::Name;
use tarvek_core::words::offer::{NfsExport, Squash};
use tarvek_core::words::spot::Spot;
use tarvek_core::words::terms::Access;

use super::collect::{Collect, number, spot};

/// Options that stand alone.
const FLAGS: [&str; 30] = [
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
];

/// Options that have a value.
const VALUED: [&str; 11] = [
    "fsid",
    "anonuid",
    "anongid",
    "squash_uids",
    "squash_gids",
    "sec",
    "refer",
    "replicas",
    "mountpoint",
    "mp",
    "xprtsec",
];

/// What may stand behind `sec=` (`exports(5)`, and aliases of them in the sources of `exportfs`).
const FLAVOURS: [&str; 10] =
    ["sys", "unix", "none", "null", "krb5", "krb5i", "krb5p", "lipkey", "spkm3", "spkm3i"];

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
    out.skip(at, why.clone());
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

/// Words at spaces that stand in no quotation marks, up to a hash that begins one; with why there
/// are no more.
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
        // A bracket in the path is a character of it.
        if depth > 0 && words.len() > 1 {
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

/// Two names of one number are one flavour.
fn by_number(flavour: &str) -> &str {
    match flavour {
        "unix" => "sys",
        "null" => "none",
        other => other,
    }
}

/// What may differ between flavours of authentication.
#[derive(Clone, Copy)]
struct Flags {
    access: Access,
    root_squash: bool,
    all_squash: bool,
}

/// What an export's options say.
#[derive(Clone)]
struct Options {
    /// As they are written.
    all: Vec<String>,
    /// All that was said so far, of whatever flavour.
    plain: Flags,
    /// Flavours in their order. One begins with all that was said by then, of whatever flavour, and
    /// has of later options only those that follow it in the same list (`setflags` and
    /// `secinfo_addflavor` in the sources of `exportfs`).
    flavours: Vec<(String, Flags)>,
    anonuid: Option<u32>,
    anongid: Option<u32>,
    crossmnt: bool,
}

impl Default for Options {
    fn default() -> Self {
        let plain = Flags { access: Access::ReadOnly, root_squash: true, all_squash: false };
        Self {
            all: Vec::new(),
            plain,
            flavours: Vec::new(),
            anonuid: None,
            anongid: None,
            crossmnt: false,
        }
    }
}

impl Options {
    /// With a list of them.
    ///
    /// # Errors
    /// The option that `exportfs` does not take.
    fn with(&self, text: &str) -> Result<Self, String> {
        let mut options = self.clone();
        if text.is_empty() {
            return Ok(options);
        }
        let mut active: Vec<&str> = Vec::new();
        // A comma at the end is none.
        for option in text.strip_suffix(',').unwrap_or(text).split(',') {
            let (name, value) =
                option.split_once('=').map_or((option, None), |(n, v)| (n, Some(v)));
            let known = match value {
                None => FLAGS.contains(&name),
                Some(_) => VALUED.contains(&name),
            };
            if !known {
                return Err(format!("{option:?} is no option of an export"));
            }
            let value = value.unwrap_or_default();
            let fits = match name {
                "anonuid" | "anongid" => number_of(value).is_some(),
                "fsid" => value == "root" || number_of(value).is_some() || is_uuid(value),
                "sec" => value.split(':').all(|flavour| FLAVOURS.contains(&flavour)),
                _ => true,
            };
            if !fits {
                return Err(format!("{option:?} has a value that is none"));
            }
            match name {
                "sec" => {
                    active = value.split(':').map(by_number).collect();
                    for flavour in &active {
                        if !options.flavours.iter().any(|(known, _)| known == flavour) {
                            options.flavours.push(((*flavour).to_owned(), options.plain));
                        }
                    }
                }
                "anonuid" => options.anonuid = number_of(value),
                "anongid" => options.anongid = number_of(value),
                "crossmnt" => options.crossmnt = true,
                "nocrossmnt" => options.crossmnt = false,
                _ => options.flag(name, &active),
            }
            options.all.push(option.to_owned());
        }
        Ok(options)
    }

    /// Sets a flag of the flavours at hand, and of those that come later.
    fn flag(&mut self, name: &str, active: &[&str]) {
        let set = |flags: &mut Flags| match name {
            "ro" => flags.access = Access::ReadOnly,
            "rw" => flags.access = Access::ReadWrite,
            "root_squash" => flags.root_squash = true,
            "no_root_squash" => flags.root_squash = false,
            "all_squash" => flags.all_squash = true,
            "no_all_squash" => flags.all_squash = false,
            _ => {}
        };
        set(&mut self.plain);
        for (flavour, flags) in &mut self.flavours {
            if active.contains(&flavour.as_str()) {
                set(flags);
            }
        }
    }

    /// What it comes to for clients: who comes as AUTH_SYS gets what is said for that flavour, or
    /// else for the first.
    fn export(self, clients: &str) -> NfsExport {
        let sys = self.flavours.iter().find(|(flavour, _)| flavour == "sys");
        let flags = sys.or(self.flavours.first()).map_or(self.plain, |(_, flags)| *flags);
        NfsExport {
            clients: clients.into(),
            access: flags.access,
            squash: match (flags.all_squash, flags.root_squash) {
                (true, _) => Squash::All,
                (false, true) => Squash::Root,
                (false, false) => Squash::None,
            },
            anonuid: self.anonuid,
            anongid: self.anongid,
            crossmnt: self.crossmnt,
            options: self.all,
        }
    }
}

/// Thirty-two hexadecimal digits, with whatever stands between them.
fn is_uuid(text: &str) -> bool {
    text.bytes().filter(u8::is_ascii_hexdigit).count() == 32
        && text.bytes().all(|b| b.is_ascii_hexdigit() || matches!(b, b'-' | b':'))
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
    let mut after_options = false;
    for word in rest {
        // What stands behind options is a client, whatever it looks like; options at the end are
        // for everybody.
        if let Some(options) = word.strip_prefix('-').filter(|_| !after_options) {
            (any, after_options) = (false, true);
            match defaults.with(options) {
                Ok(more) => defaults = more,
                Err(why) => return refuse(at, why, out),
            }
            continue;
        }
        after_options = false;
        any = true;
        let (client, options) = match word.split_once('(') {
            None => (word.as_str(), None),
            Some((client, rest)) => match rest.strip_suffix(')') {
                Some(options) if !options.contains(['(', ')']) => (client, Some(options)),
                _ => return refuse(at, format!("{word:?} has a stray bracket"), out),
            },
        };
        let options = match defaults.with(options.unwrap_or_default()) {
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

/// Why nobody can be meant by a client; in the order in which `exportfs` tells its sorts apart.
fn no_client(client: &str) -> Option<&'static str> {
    if client == "*"
        || client.starts_with('@')
        || client.starts_with("gss/")
        || client.contains(['*', '?', '['])
    {
        return None;
    }
    if let Some((address, prefix)) = client.split_once('/') {
        let most = if address.contains(':') { 128 } else { 32 };
        let length = prefix.parse::<u32>().is_ok_and(|length| length <= most);
        let mask = prefix.parse::<std::net::IpAddr>().is_ok();
        return (!length && !mask)
            .then_some("what stands behind the slash is no prefix and no mask");
    }
    let odd = |c: char| !(c.is_alphanumeric() || matches!(c, '.' | '-' | '_' | ':' | '[' | ']'));
    match client {
        client if client.starts_with('-') => Some("a host's name does not begin with a hyphen"),
        client if client.contains(odd) => Some("no host has such a name"),
        _ => None,
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
    if let Some(why) = no_client(client) {
        return out.skip(at, format!("{client:?} is no client: {why}"));
    }
    if !known.insert((path.to_owned(), client.to_owned())) {
        out.skip(at, format!("{client} stands before with {path}; exportfs ignores the second"));
        return;
    }
    let fact =
        ExportFact { path: path.as_bytes().to_vec(), export: options.export(client), stray_space };
    out.fact(at, Fact::Export(fact));
}
