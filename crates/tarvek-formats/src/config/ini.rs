//! Sections with `Key=value` lines, as systemd and Podman read them (`systemd.syntax(7)`).

use tarvek_core::words::name::Name;
use tarvek_core::words::spot::Spot;

use super::collect::{Collect, number, spot};

/// A line of a section.
pub(super) struct Setting {
    pub(super) section: String,
    pub(super) key: String,
    pub(super) value: String,
    pub(super) spot: Spot,
}

/// The settings of a file, in their order.
pub(super) struct Unit(Vec<Setting>);

impl Unit {
    /// Reads a file. A backslash at the end of a line continues it; comments in between are passed
    /// over.
    pub(super) fn read(file: &Name, text: &str, out: &mut Collect) -> Self {
        let mut settings: Vec<Setting> = Vec::new();
        let mut section = String::new();
        let mut open = false;
        for (n, line) in text.lines().enumerate() {
            let at = spot(file, number(n));
            let line = line.trim();
            if line.starts_with(['#', ';']) || (line.is_empty() && !open) {
                continue;
            }
            let (part, more) =
                line.strip_suffix('\\').map_or((line, false), |p| (p.trim_end(), true));
            if open {
                if let Some(setting) = settings.last_mut() {
                    setting.value.push(' ');
                    setting.value.push_str(part);
                }
            } else if let Some(name) =
                part.strip_prefix('[').and_then(|rest| rest.strip_suffix(']'))
            {
                name.clone_into(&mut section);
            } else if let Some((key, value)) = part.split_once('=') {
                let (key, value) = (key.trim().to_owned(), value.trim().to_owned());
                settings.push(Setting { section: section.clone(), key, value, spot: at });
            } else {
                out.skip(&at, "it is no `Key=value`");
                open = false;
                continue;
            }
            open = more;
        }
        Self(settings)
    }

    pub(super) fn has_section(&self, section: &str) -> bool {
        self.0.iter().any(|setting| setting.section == section)
    }

    /// All values of a key; an empty one takes back those before it.
    pub(super) fn all(&self, section: &str, key: &str) -> Vec<&Setting> {
        let mut all = Vec::new();
        for setting in self.0.iter().filter(|s| s.section == section && s.key == key) {
            if setting.value.is_empty() {
                all.clear();
            } else {
                all.push(setting);
            }
        }
        all
    }

    /// The last value of a key.
    pub(super) fn last(&self, section: &str, key: &str) -> Option<&Setting> {
        self.all(section, key).pop()
    }
}

/// Words at spaces outside of quotation marks, without them.
pub(super) fn words(text: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    let (mut quote, mut open) = (None, false);
    let mut characters = text.chars();
    while let Some(c) = characters.next() {
        match (c, quote) {
            ('"' | '\'', None) => {
                quote = Some(c);
                if !open {
                    words.push(String::new());
                }
                open = true;
            }
            (c, Some(q)) if c == q => quote = None,
            (c, None) if c.is_whitespace() => open = false,
            (c, _) => {
                if !open {
                    words.push(String::new());
                    open = true;
                }
                let c = if c == '\\' { characters.next().unwrap_or(c) } else { c };
                if let Some(word) = words.last_mut() {
                    word.push(c);
                }
            }
        }
    }
    words
}
