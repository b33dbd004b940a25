//! The layout that is meant, and which of its hosts this machine is.

use std::path::{Path, PathBuf};

use tarvek_core::layout::site::Layout;
use tarvek_core::site::join::Site;
use tarvek_core::words::name::Name;
use tarvek_core::words::text::nearest;
use tarvek_formats::layout;
use tarvek_host::observe;

use super::files::{name_of, read_file};
use crate::cli::Globals;
use crate::outcome::Failure;

/// A layout that was read.
pub(crate) struct Found {
    pub(crate) file: PathBuf,
    pub(crate) text: String,
    pub(crate) parsed: Layout,
}

/// The file of a layout, as those who speak of edits need it.
#[derive(Clone, Debug, Default)]
pub(crate) struct LayoutFile {
    pub(crate) name: String,
    pub(crate) text: String,
}

impl Found {
    /// The file, as those who speak of edits need it.
    pub(super) fn layout_file(&self) -> LayoutFile {
        LayoutFile { name: name_of(&self.file), text: self.text.clone() }
    }
}

/// The layout that is meant: the one that is named, else `tarvek.toml` here or in a folder above.
pub(crate) fn find_layout(globals: &Globals) -> Result<Option<Found>, Failure> {
    let file = match &globals.layout {
        Some(file) => file.clone(),
        None => {
            let here = std::env::current_dir()?;
            match here.ancestors().map(|folder| folder.join("tarvek.toml")).find(|f| f.is_file()) {
                Some(file) => file.strip_prefix(&here).map(Path::to_path_buf).unwrap_or(file),
                None => return Ok(None),
            }
        }
    };
    let bytes = read_file(&file, layout::MOST_BYTES as u64)?;
    let parsed = layout::read(&name_of(&file), &bytes)?;
    let text = String::from_utf8_lossy(&bytes).into_owned();
    Ok(Some(Found { file, text, parsed }))
}

/// That a command can't do without a layout.
pub(crate) fn no_layout() -> Failure {
    Failure::with_remedy(
        "there is no layout: no tarvek.toml here or in a folder above",
        "`tarvek adopt` makes one from what exists (Compose files, fstab, exports, …), `tarvek \
         draft` from a short brief; `tarvek demo` writes one to look at, --layout FILE names one \
         that lies elsewhere, and `tarvek check --here` needs none",
    )
}

/// The layout that a command is about, and its file's name.
pub(crate) fn layout(globals: &Globals) -> Result<(Layout, String), Failure> {
    let found = find_layout(globals)?.ok_or_else(no_layout)?;
    Ok((found.parsed, name_of(&found.file)))
}

/// The host of the layout that is this machine.
pub(super) fn this_host(globals: &Globals, layout: &Layout) -> Result<Option<Name>, Failure> {
    if let Some(name) = globals.this_host.as_deref().map(Name::from) {
        if layout.host(&name).is_some() {
            return Ok(Some(name));
        }
        let known = layout.hosts.iter().map(|host| &host.name);
        let remedy = match nearest(name.raw(), known.clone().map(Name::raw)) {
            Some(near) => format!("did you mean {}?", Name::from(near)),
            None => format!("the layout has: {}", listed(known, ", ")),
        };
        return Err(Failure::with_remedy(format!("the layout has no host {name}"), remedy));
    }
    let own = observe::host_name();
    let site = Site::join(layout.clone(), Vec::new()).map_err(twice)?;
    Ok(site.host_named(own.raw()).cloned())
}

/// The time at which things are judged; `TARVEK_NOW` (seconds since 1970 UTC) makes an answer that
/// can be made again.
pub(super) fn now() -> i64 {
    let given = std::env::var("TARVEK_NOW").ok().and_then(|now| now.parse().ok());
    given.unwrap_or_else(|| jiff::Timestamp::now().as_second())
}

/// Names one after another.
pub(super) fn listed<'a>(names: impl Iterator<Item = &'a Name>, between: &str) -> String {
    names.map(ToString::to_string).collect::<Vec<_>>().join(between)
}

/// That two surveys claim a host.
pub(crate) fn twice(host: Name) -> Failure {
    Failure::with_remedy(format!("two surveys are of the host {host}"), "give one survey per host")
}
