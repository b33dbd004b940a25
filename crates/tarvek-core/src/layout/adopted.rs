//! Which parts of a layout were adopted from configuration, and where each stands there.
//!
//! A part that is noted here and no longer in the layout is one that somebody took out.

use std::collections::{BTreeMap, HashMap};

use crate::words::part::Part;
use crate::words::spot::Spot;

/// Where the parts of a layout were adopted from.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Adopted {
    pub parts: BTreeMap<Part, Spot>,
    /// The same by the line of the layout in which the part begins.
    pub lines: HashMap<u32, Spot>,
}

impl Adopted {
    /// The place that a line of the layout was adopted from.
    pub fn of_line(&self, line: u32) -> Option<&Spot> {
        self.lines.get(&line)
    }
}
