//! A Compose project while it is read: its files, and what its variables are.

use std::cell::Cell;
use std::collections::HashMap;
use std::path::{Path, PathBuf};

use tarvek_core::words::name::Name;
use tarvek_core::words::spot::Spot;

use crate::config::around::{Around, File};
use crate::config::collect::Collect;

/// What the variables of a project are.
pub(super) struct Project<'a> {
    /// Where relative paths start.
    pub(super) folder: PathBuf,
    /// The first file, by which others are named.
    pub(super) main: &'a File,
    pub(super) around: &'a Around<'a>,
    /// From its `.env`, with whether a value of whoever asks went into it.
    pub(super) variables: HashMap<String, (String, bool)>,
    /// Whether a value of whoever asks was taken since somebody last looked.
    pub(super) outside: Cell<bool>,
}

impl Project<'_> {
    /// A variable: the caller's own go before those of the file.
    pub(super) fn variable(&self, name: &str) -> Option<String> {
        if let Some(value) = (self.around.variable)(name) {
            // Where home is stands in every path that begins there.
            self.outside.set(self.outside.get() || name != "HOME");
            return Some(value);
        }
        let (value, outside) = self.variables.get(name)?;
        self.outside.set(self.outside.get() || *outside);
        Some(value.clone())
    }

    /// A variable that is given to a service, which holds for a place.
    pub(super) fn given(&self, name: &str, at: &Spot, out: &mut Collect) -> Option<String> {
        self.outside.set(false);
        let value = self.variable(name);
        if self.outside.get() {
            out.mark_outside(at);
        }
        value
    }

    /// What a file that another one names goes by.
    pub(super) fn name_of(&self, path: &Path) -> Name {
        let beside = self.main.path.parent().and_then(|folder| path.strip_prefix(folder).ok());
        match beside {
            Some(rest) => Path::new(self.main.name.raw())
                .with_file_name(rest)
                .to_string_lossy()
                .as_ref()
                .into(),
            None => path.to_string_lossy().as_ref().into(),
        }
    }
}
