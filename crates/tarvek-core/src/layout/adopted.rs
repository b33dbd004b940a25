//! Which parts of a layout were adopted from configuration, and where each stands there.
//!
//! A part that is noted here and no longer in the layout is one that somebody took out.

use std::collections::{BTreeMap, HashMap};

use crate::words::part::Part;
use crate::words::remedy::Edit;
use crate::words::spot::Spot;

/// Where the parts of a layout were adopted from.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Adopted {
    pub parts: BTreeMap<Part, Spot>,
    /// The same by the line of the layout in which the part begins.
    pub lines: HashMap<u32, Spot>,
}

impl Adopted {
    /// The place that what an edit changes was adopted from. That a host is there is said by every
    /// file of it, and who is on it stands in its line: of these only what was noted by name counts.
    pub fn of_edit(&self, edit: &Edit) -> Option<&Spot> {
        match &edit.part {
            Part::Host(_) => None,
            part @ (Part::Account { .. } | Part::Group { .. }) => self.parts.get(part),
            _ => self.of_line(edit.line),
        }
    }

    /// The place that a line of the layout was adopted from.
    pub fn of_line(&self, line: u32) -> Option<&Spot> {
        self.lines.get(&line)
    }
}
