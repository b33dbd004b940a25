//! The route of a path: from where somebody sees it, through mappings, mounts and shares, to the folder on the host that
//! holds it, with the identity that arrives at each step.
//!
//! There is one builder, [`follow`]; checks, traces, access and forecasts all read what it returns.

mod arrive;
mod attach;
pub mod attached;
pub mod end;
mod finish;
pub mod hops;
mod nfs;
pub mod places;
pub mod seen_as;
pub mod smb;
mod source;
mod spot;
mod walk;
use crate::kernel::subject::Subject;
use crate::route::hops::{Route, View};
use crate::route::spot::Last;
use crate::route::walk::Walker;
use crate::site::join::Site;
use crate::words::path::AbsPath;

/// Follows a path from a viewpoint, as a subject.
pub fn follow(site: &Site, view: &View, asked: &AbsPath, subject: &Subject) -> Route {
    Walker::new(site).route(view, asked, subject, Last::Followed)
}

/// As [`follow`], but a symlink at the very end is not followed: for those who want the name, as `unlink(2)` does.
pub fn follow_to_name(site: &Site, view: &View, asked: &AbsPath, subject: &Subject) -> Route {
    Walker::new(site).route(view, asked, subject, Last::Itself)
}
