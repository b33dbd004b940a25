//! What readers of configuration have in common: facts with their places, lines that are not
//! understood, and secrets that stand where anybody can read them.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};

use tarvek_core::facts::configured::{Configuration, Configured, Fact, Flaw, Skipped};
use tarvek_core::words::name::Name;
use tarvek_core::words::secret;
use tarvek_core::words::spot::Spot;

/// Of a line that is not understood no more is kept, in characters.
const LONGEST: usize = 200;

/// Gathers what files say.
#[derive(Default)]
pub(crate) struct Collect {
    pub(crate) found: Configuration,
    /// The lines of each file, without secrets.
    lines: HashMap<Name, Vec<String>>,
    /// Files that nobody named, but another file: whatever is not understood there may be anything,
    /// and is not shown.
    followed: HashSet<Name>,
    /// Places whose text has a value from the environment of whoever asks.
    outside: HashSet<Spot>,
}

/// Why a line of a file that another one names was not taken, where the reason would show what it
/// says.
const NOT_SHOWN: &str =
    "it is not understood; what it says is not shown, since nobody named the file itself";

impl Collect {
    /// Takes a text whose lines are about to be read. Secrets in it are found here, whatever the
    /// format.
    pub(crate) fn open(&mut self, file: &Name, text: &str, secrets_in: &'static str) {
        self.open_but(file, text, secrets_in, |_| false);
    }

    /// The same, where the format says of some lines that nobody's password stands in them,
    /// whatever it looks like.
    pub(crate) fn open_but(
        &mut self,
        file: &Name,
        text: &str,
        secrets_in: &'static str,
        harmless: impl Fn(&str) -> bool,
    ) {
        if self.lines.contains_key(file) {
            return;
        }
        let hidden = secret::hide(text);
        for (n, (line, shown)) in text.lines().zip(hidden.lines()).enumerate() {
            // A reference to a variable is no secret, and a comment is none that anything reads.
            let said = line.trim_end() != shown.trim_end();
            if said
                && !harmless(line)
                && !line.contains("${")
                && !line.trim_start().starts_with(['#', ';'])
            {
                let spot = Spot { file: file.clone(), line: number(n) };
                self.found.flaws.push((spot, Flaw::Secret(secrets_in)));
            }
        }
        self.lines.insert(file.clone(), hidden.lines().map(cut).collect());
    }

    /// Takes a text that nobody named but another file: none of its lines is ever shown.
    pub(crate) fn open_followed(&mut self, file: &Name, text: &str, secrets_in: &'static str) {
        self.followed.insert(file.clone());
        self.open(file, text, secrets_in);
    }

    /// Whether nobody named a file but another one.
    pub(crate) fn is_followed(&self, file: &Name) -> bool {
        self.followed.contains(file)
    }

    /// Notes that a text has a value from the environment of whoever asks.
    pub(crate) fn mark_outside(&mut self, spot: &Spot) {
        if self.outside.insert(spot.clone()) {
            self.found.outside.push(spot.clone());
        }
    }

    /// Whether that was noted of a place.
    pub(crate) fn is_from_outside(&self, spot: &Spot) -> bool {
        self.outside.contains(spot)
    }

    pub(crate) fn fact(&mut self, spot: &Spot, fact: Fact) {
        self.found.facts.push(Configured { fact, spot: spot.clone() });
    }

    /// A line, or a part of it, that could not be understood. A reason that is put together may
    /// quote the line.
    pub(crate) fn skip(&mut self, spot: &Spot, why: impl Into<Cow<'static, str>>) {
        let is_followed = self.is_followed(&spot.file);
        let lines = self.lines.get(&spot.file).filter(|_| !is_followed);
        let line = lines.and_then(|lines| lines.get((spot.line.max(1) - 1) as usize));
        let text = line.map(|line| line.trim()).unwrap_or_default().into();
        let why = match why.into() {
            Cow::Owned(_) if is_followed => NOT_SHOWN.to_owned(),
            why => secret::hide(&why),
        };
        self.found.skipped.push(Skipped { spot: spot.clone(), text, why });
    }

    pub(crate) fn flaw(&mut self, spot: &Spot, flaw: Flaw) {
        let flaw = match flaw {
            Flaw::Refused { by, .. } if self.is_followed(&spot.file) => {
                Flaw::Refused { by, why: NOT_SHOWN.to_owned() }
            }
            Flaw::Refused { by, why } => Flaw::Refused { by, why: secret::hide(&why) },
            flaw => flaw,
        };
        self.found.flaws.push((spot.clone(), flaw));
    }
}

fn cut(line: &str) -> String {
    match line.char_indices().nth(LONGEST) {
        None => line.to_owned(),
        Some((end, _)) => format!("{}…", &line[..end]),
    }
}

/// A line's number from its place among all.
pub(crate) fn number(n: usize) -> u32 {
    u32::try_from(n + 1).unwrap_or(u32::MAX)
}

/// A place in a file.
pub(crate) fn spot(file: &Name, line: u32) -> Spot {
    Spot { file: file.clone(), line }
}
