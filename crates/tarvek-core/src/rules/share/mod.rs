//! `share/*`: what a host offers.

pub mod any_client;
pub mod child_dataset_hidden;
pub mod everyone_writes;
pub mod file_refused;
pub mod guests_read;
pub mod nested;
pub mod not_offered;
pub mod read_only;
pub mod recycle_kept;
pub mod root_trusted;
pub mod stray_space;

use crate::layout::share::Share;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::offer::SmbOffer;
use crate::words::place::Place;
use crate::words::rule::RuleId;

/// A finding about a share.
fn of_share(rule: RuleId, share: &Share) -> Finding {
    let at = Place::new(&share.host, &share.path);
    let finding = rule.finding(About::Share(share.name.clone())).at(&at);
    // What only the host's own configuration says stands in no line of the layout.
    match share.origin.line {
        0 => finding,
        line => finding.line(line),
    }
}

/// Whether guests may write.
fn guests_write(offer: &SmbOffer) -> bool {
    let admits = offer.only.is_empty();
    offer.guests && admits && offer.writable
}
