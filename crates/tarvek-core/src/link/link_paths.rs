//! The two ends of a link or a rename, followed: the source and the folder that holds it, the
//! target folder and the name in it.

use crate::facts::tree::NodeId;
use crate::kernel::entry::Project;
use crate::kernel::object::Object;
use crate::kernel::subject::Subject;
use crate::route::end::End;
use crate::route::hops::{Route, View, Waypoint};
use crate::route::{follow_again, follow_to_name, follow_written};
use crate::site::join::Site;

/// Both ends, as one process sees them.
#[derive(Clone, Debug)]
pub struct LinkPaths<'a> {
    pub(super) site: &'a Site,
    pub source: Source<'a>,
    pub target: Target,
}

/// What gets another name.
#[derive(Clone, Debug)]
pub struct Source<'a> {
    /// The way to it, a symlink at its end not followed; `None` for a file that is yet to be made.
    pub name: Option<Route>,
    /// The way to the folder that holds its name.
    pub folder: Route,
    /// The entry, if it was seen.
    pub object: Option<Object<'a>>,
    pub(super) project: Option<Project>,
    /// Whether the path ends in a name, not in a dot or at the root.
    pub is_name: bool,
}

/// Where the name is to be.
#[derive(Clone, Debug)]
pub struct Target {
    /// The way to the folder that is to hold it.
    pub folder: Route,
    /// The way to the name itself; `None` for one that nobody has.
    pub name: Option<Route>,
    /// The path that is to be made, as it is written.
    written: Vec<u8>,
    pub(super) is_name: bool,
    /// Whether a slash stands behind the name.
    pub(super) slash: bool,
}

impl<'a> LinkPaths<'a> {
    /// Of two paths as a process writes them. A target that is a folder takes the source's own
    /// name.
    pub fn of(site: &'a Site, view: &View, subject: &Subject, from: &[u8], to: &[u8]) -> Self {
        let (above, last) = split(from);
        let name = follow_to_name(site, view, from, subject);
        let entry = name.entry().map(|(at, node)| (at.seen_on.clone(), node));
        let tree = |host| site.facts(host).map(|facts| &facts.tree);
        let object = entry.as_ref().and_then(|(host, node)| site.object(host, *node));
        let project = entry.as_ref().and_then(|(host, node)| tree(host)?.project(*node));
        // What is called `.` or `..` has a name all the same.
        let own = if is_name(last) { last } else { name.view_path().name().unwrap_or_default() };
        let target = Target::of(site, view, subject, to, own);
        let folder = inside(site, view, above, subject);
        let source = Source { name: Some(name), folder, object, project, is_name: is_name(last) };
        Self { site, source, target }
    }

    /// Of a file that somebody has yet to make in a folder, which then gets a new name in another
    /// one.
    pub fn of_made(
        site: &'a Site,
        view: &View,
        subject: &Subject,
        folder: &[u8],
        (object, project): (Option<Object<'a>>, Option<Project>),
        into: &[u8],
    ) -> Self {
        let folder = inside(site, view, folder, subject);
        let source = Source { name: None, folder, object, project, is_name: true };
        let target = Target {
            folder: inside(site, view, into, subject),
            name: None,
            written: into.to_vec(),
            is_name: true,
            slash: false,
        };
        Self { site, source, target }
    }

    /// The same two paths as somebody else follows them.
    pub(super) fn followed_by(&self, subject: &Subject) -> Self {
        let again = |route: &Route| follow_again(self.site, route, subject);
        let name = |route: &Option<Route>| {
            let route = route.as_ref()?;
            Some(follow_to_name(self.site, &route.view, &route.written, subject))
        };
        let (source, target) = (&self.source, &self.target);
        Self {
            site: self.site,
            source: Source {
                name: name(&source.name),
                folder: again(&source.folder),
                ..source.clone()
            },
            target: Target {
                name: name(&target.name),
                folder: again(&target.folder),
                ..target.clone()
            },
        }
    }

    /// Of another source with the same target folder, under a name that nobody has there.
    pub(super) fn with_source(&self, source: Source<'a>) -> Self {
        let target = Target { name: None, is_name: true, slash: false, ..self.target.clone() };
        Self { site: self.site, source, target }
    }

    /// The entry at the end of the target folder.
    pub(super) fn target_folder(&self) -> Option<(&Waypoint, NodeId)> {
        self.target.folder.entry()
    }
}

impl Source<'_> {
    /// The way that `link(2)` takes: to the file, or to where it will be.
    pub(super) fn route(&self) -> &Route {
        self.name.as_ref().unwrap_or(&self.folder)
    }
}

impl Target {
    fn of(site: &Site, view: &View, subject: &Subject, to: &[u8], own: &[u8]) -> Self {
        let whole = inside(site, view, to, subject);
        let is_folder = whole.end == End::Reached;
        let (above, last) = split(to);
        let (folder, name, slash) = if is_folder {
            (to, own, false)
        } else {
            (above, last, to.ends_with(b"/") && is_name(last))
        };
        let mut written = [folder, b"/", name].concat();
        let route = follow_to_name(site, view, &written, subject);
        written.extend(slash.then_some(b'/'));
        Self {
            folder: inside(site, view, folder, subject),
            name: Some(route),
            written,
            is_name: is_name(name),
            slash,
        }
    }

    /// The path that is to be made, as it is written.
    pub fn path(&self) -> &[u8] {
        &self.written
    }
}

/// The project of the folder at the end of a route, with its number in the facts.
pub(crate) fn of_folder(site: &Site, route: &Route) -> Option<(NodeId, Option<Project>)> {
    let (at, node) = route.entry()?;
    Some((node, site.tree(&at.seen_on)?.project(node)))
}

/// The way into a folder: its own symlink, if it is one, stands in the middle, where nothing
/// protects it.
fn inside(site: &Site, view: &View, folder: &[u8], subject: &Subject) -> Route {
    follow_written(site, view, &[folder, b"/."].concat(), subject)
}

fn is_name(last: &[u8]) -> bool {
    !matches!(last, b"" | b"." | b"..")
}

/// The path of the folder, and the last component.
pub fn split(written: &[u8]) -> (&[u8], &[u8]) {
    let end = written.iter().rposition(|&byte| byte != b'/').map_or(0, |last| last + 1);
    let start = written[..end].iter().rposition(|&byte| byte == b'/').map_or(0, |slash| slash + 1);
    (&written[..start], &written[start..end])
}
