//! Groups of waste that somebody does not want to see again: a line each, the group's id and what
//! it was about.

use std::collections::BTreeMap;

use tarvek_core::words::text::shown;

/// Ids of groups, each with the rest of its line.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ignored {
    groups: BTreeMap<String, String>,
}

/// What the first lines say.
const HEAD: &str =
    "# Groups of `tarvek waste` that are not shown again; remove a line to see its group again.\n";

impl Ignored {
    /// Reads them; empty lines and lines that begin with # say nothing.
    pub fn read(text: &str) -> Self {
        let lines =
            text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
        let group = |line: &str| {
            let (id, about) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
            (id.to_owned(), about.trim().to_owned())
        };
        Self { groups: lines.map(group).collect() }
    }

    pub fn has(&self, id: &str) -> bool {
        self.groups.contains_key(id)
    }

    /// Adds a group with a path that tells a person what it is about; whether it was not there.
    pub fn add(&mut self, id: &str, path: &[u8]) -> bool {
        self.groups.insert(id.to_owned(), shown(path)).is_none()
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.groups.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.groups.is_empty()
    }

    /// As a file.
    pub fn write(&self) -> String {
        let lines = self.groups.iter().map(|(id, about)| format!("{id} {about}\n"));
        HEAD.to_owned() + &lines.collect::<String>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_again() {
        let mut ignored = Ignored::read("# none\n\ncopy-1 /a b\n");
        assert!(ignored.has("copy-1") && !ignored.has("copy-2"));
        assert!(ignored.add("copy-2", b"/x\n/forged copy-3"));
        assert!(!ignored.add("copy-2", b"/y"));
        let again = Ignored::read(&ignored.write());
        assert_eq!(again, ignored);
        assert_eq!(again.len(), 2, "no name can make a line of its own");
    }
}
