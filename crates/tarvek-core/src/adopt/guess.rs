//! What no configuration says, told from names and rights, each with its reason. A person corrects
//! it.

use crate::words::kind_names::plain_name;
use crate::words::name::Name;
use crate::words::part::Part;

/// Something that was guessed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Guess {
    pub host: Name,
    /// The part of the layout that it is about.
    pub about: Part,
    pub what: String,
    pub because: String,
}

/// Words in the names of folders of downloads.
const INTAKE: [&str; 12] = [
    "intake",
    "downloads",
    "download",
    "incoming",
    "done",
    "complete",
    "completed",
    "partial",
    "incomplete",
    "fetched",
    "unsorted",
    "inbox",
];

/// Whether a folder's name speaks of downloads.
pub(super) fn is_intake(folder: &[u8]) -> bool {
    plain_name(folder).is_some_and(|name| INTAKE.contains(&name.as_str()))
}
