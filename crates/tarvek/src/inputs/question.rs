//! From options to a question: a joined site, a viewpoint, a path, and who asks.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::ffi::{OsStr, OsString};
use std::io;
use std::os::unix::ffi::{OsStrExt, OsStringExt};

use tarvek_core::adopt::adopt;
use tarvek_core::judge::access_check::absent;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::layout::site::Layout;
use tarvek_core::link::link_paths::split;
use tarvek_core::route::address;
use tarvek_core::route::hops::View;
use tarvek_core::route::{follow_written, places};
use tarvek_core::scan::read::below;
use tarvek_core::site::join::Site;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::{AbsPath, components};
use tarvek_core::words::place::Place;
use tarvek_core::words::terms::{LARGEST_ID, Os, id};
use tarvek_core::words::text::{nearest, shown};
use tarvek_formats::layout::{self, extend};
use tarvek_host::observe::{self, Depth};
use tarvek_host::process::Process;

use super::config::of_this_machine;
use super::layout::twice;
use super::layout::{Found, LayoutFile, find_layout, listed, no_layout, now, this_host};
use super::parts::{Parts, Reading, settled};
use super::surveys::{surveys, with_all_of_it, with_live, with_process, with_surveys};
use crate::cli::Globals;
use crate::outcome::Failure;

/// The site of a command that can't do without a layout, and the layout's file name.
pub(crate) fn site(globals: &Globals) -> Result<(Site, LayoutFile), Failure> {
    let layout = find_layout(globals)?.ok_or_else(no_layout)?;
    let (site, _, file) = site_of(globals, layout, Reading::Whole)?;
    Ok((site, file))
}

/// As [`site`], with the way to what was not read.
fn site_of(
    globals: &Globals,
    layout: Found,
    reading: Reading,
) -> Result<(Site, Parts, LayoutFile), Failure> {
    let file = layout.layout_file();
    let this_host = this_host(globals, &layout.parsed)?;
    let (mut site, mut parts) = with_surveys(globals, layout, reading)?;
    let mut site = match this_host {
        Some(host) if site.facts(&host).is_none() => {
            let places = loop {
                let deep =
                    places::for_libraries(&site, &host).into_iter().map(|p| (p, Depth::Everything));
                let points = places::mount_points(&site, &host);
                let points = points.into_iter().map(|p| (p, Depth::Names));
                let mapped = places::mapped_folders(&site, &host).into_iter();
                let mapped = mapped.map(|path| (path, Depth::Entry));
                let places = deep.chain(points).chain(mapped).collect();
                if !parts.read(&mut site)? {
                    break places;
                }
            };
            with_near_misses(site, &host, places)?
        }
        _ => site,
    };
    site.now = now();
    Ok((site, parts, file))
}

/// As [`site`], of which what something goes through is yet to be read.
pub(crate) fn site_in_part(
    globals: &Globals,
    layout: Found,
) -> Result<(LazySite, LayoutFile), Failure> {
    let (site, parts, file) = site_of(globals, layout, Reading::InPart)?;
    Ok((LazySite { site, parts }, file))
}

/// The site with a look at a host, and at what may have been meant where a name is missing there.
fn with_near_misses(
    site: Site,
    host: &Name,
    mut places: Vec<(AbsPath, Depth)>,
) -> Result<Site, Failure> {
    let mut looked_at = with_all_of_it(site.clone(), host, places.clone())?;
    let around = places::around_missing(&looked_at, host);
    if around.is_empty() {
        return Ok(looked_at);
    }
    places.extend(around.into_iter().map(|path| (path, Depth::Names)));
    looked_at = with_all_of_it(site.clone(), host, places.clone())?;
    let near = places::near_misses_of(&looked_at, host);
    if near.is_empty() {
        return Ok(looked_at);
    }
    places.extend(near.into_iter().map(|path| (path, Depth::Everything)));
    with_all_of_it(site, host, places)
}

/// This machine as a site of its own, by its own configuration and what runs on it.
pub(crate) fn here() -> Result<(LazySite, LayoutFile), Failure> {
    let read = of_this_machine()?;
    let adoption = adopt(&read.hosts, &Layout::default());
    let own = observe::host_name();
    let name = "this machine".to_owned();
    // Written and read again, so that everything stands where it would in a layout.
    let written = extend::extend(None, &own, adoption)?;
    let layout = layout::read(&name, written.text.as_bytes())?;
    let site = Site::join(layout, Vec::new()).map_err(twice)?;
    let host = site.host_named(own.raw()).unwrap_or(&own).clone();
    let deep = places::for_libraries(&site, &host).into_iter().map(|p| (p, Depth::Everything));
    let points = places::mount_points(&site, &host).into_iter().map(|p| (p, Depth::Names));
    let mut site = with_near_misses(site, &host, deep.chain(points).collect())?;
    site.now = now();
    Ok((LazySite { site, parts: Parts::default() }, LayoutFile { name, text: written.text }))
}

/// A site of which not everything was read yet.
pub(crate) struct LazySite {
    pub(crate) site: Site,
    parts: Parts,
}

impl LazySite {
    /// Has something found out. All of it is done again whenever it asked for what was not read: it
    /// may not do more than answer.
    pub(crate) fn settled<T>(
        &mut self,
        find: impl Fn(&Site) -> Result<T, Failure>,
    ) -> Result<T, Failure> {
        settled(self, |parted| find(&parted.site), |parted| (&mut parted.site, &mut parted.parts))
    }

    /// As [`LazySite::settled`], of what goes through all that is below some places.
    pub(crate) fn settled_below<T>(
        &mut self,
        places: impl Fn(&Site) -> Vec<Place>,
        find: impl Fn(&Site) -> T,
    ) -> Result<T, Failure> {
        let places = self.settled(|site| Ok(places(site)))?;
        let Self { site, parts } = self;
        parts.read_below(site, Some(&places))?;
        let mut found = find(site);
        if parts.read(site)? {
            found = find(site);
        }
        // Who is not content yet looks for something that may be anywhere.
        if parts.read(site)? {
            parts.read_below(site, None)?;
            found = find(site);
        }
        Ok(found)
    }
}

/// The site, and the place in it that `HOST:PATH` names.
pub(crate) fn place(globals: &Globals, written: &OsStr) -> Result<(LazySite, Place), Failure> {
    let layout = find_layout(globals)?.ok_or_else(no_layout)?;
    let (site, parts, _) = site_of(globals, layout, Reading::InPart)?;
    let bytes = written.as_bytes();
    let shape = || {
        let message = format!("{} names no folder of a host", shown(bytes));
        Failure::with_remedy(message, "write HOST:PATH, such as granary:/loft/media")
    };
    let cut = bytes.iter().position(|&b| b == b':').ok_or_else(shape)?;
    let name = std::str::from_utf8(&bytes[..cut]).map_err(|_| shape())?;
    let path = AbsPath::of_client(&bytes[cut + 1..]).map_err(|_| shape())?;
    match site.host_named(name).cloned() {
        Some(host) => Ok((LazySite { site, parts }, Place::new(&host, path))),
        None => {
            let known = site.layout.hosts.iter().map(|host| host.name.raw());
            let remedy = match nearest(name, known) {
                Some(near) => format!("did you mean {}?", Name::from(near)),
                None => {
                    format!("known: {}", listed(site.layout.hosts.iter().map(|h| &h.name), ", "))
                }
            };
            Err(Failure::with_remedy(format!("the site has no host {}", Name::from(name)), remedy))
        }
    }
}

/// The places that the layout needs of a host: datasets, shares, mapping sources, mount points,
/// folders, libraries.
pub(crate) fn places_of(
    globals: &Globals,
    host: Option<&str>,
) -> Result<(Name, Vec<(AbsPath, Depth)>), Failure> {
    let layout = find_layout(globals)?.ok_or_else(|| {
        Failure::with_remedy(
            "no roots are given, and there is no layout to take them from",
            "name the folders to look at",
        )
    })?;
    let named = Globals {
        this_host: host.map(str::to_owned).or_else(|| globals.this_host.clone()),
        ..globals.clone()
    };
    let host = this_host(&named, &layout.parsed)?.ok_or_else(|| {
        let known = layout.parsed.hosts.iter().map(|host| &host.name);
        Failure::with_remedy(
            format!("the layout does not know {}", observe::host_name()),
            format!("say which of its hosts this is: --host {}", listed(known, " or --host ")),
        )
    })?;
    let site = Site::join(layout.parsed, Vec::new()).map_err(twice)?;
    let deep = places::for_survey(&site, &host).into_iter().map(|place| (place, Depth::Everything));
    let points = places::mount_points(&site, &host).into_iter().map(|place| (place, Depth::Names));
    Ok((host, deep.chain(points).collect()))
}

/// A joined site, and the viewpoint and path of a question about one.
pub(crate) struct Query {
    pub(crate) site: Site,
    pub(crate) view: View,
    /// With `..` taken by name, for those who read it.
    pub(crate) path: AbsPath,
    /// Absolute, and else as it was typed.
    pub(crate) written: Vec<u8>,
    /// The host that is this machine.
    pub(crate) own: Name,
    /// The process whose view it is.
    pub(crate) process: Option<Process>,
    /// The layout's file; empty without a layout.
    pub(crate) layout: LayoutFile,
    parts: Parts,
}

impl Query {
    /// As [`LazySite::settled`].
    pub(crate) fn settled<T>(
        &mut self,
        find: impl Fn(&Self) -> Result<T, Failure>,
    ) -> Result<T, Failure> {
        settled(self, find, |asked| (&mut asked.site, &mut asked.parts))
    }
}

/// A path as it is read, and as it was typed but absolute.
pub(crate) type Typed = (AbsPath, Vec<u8>);

/// A running process by its number.
fn process(written: &str) -> Result<Process, Failure> {
    let pid = written.parse::<u32>().ok().filter(|pid| *pid > 0).ok_or_else(|| {
        let message = format!("{} is no number of a process", Name::from(written));
        Failure::with_remedy(message, "write --from process:PID, with a PID that `ps` shows")
    })?;
    Process::open(pid).map_err(|error| gone(pid, &error))
}

fn gone(pid: u32, error: &io::Error) -> Failure {
    match error.kind() {
        io::ErrorKind::NotFound => Failure::with_remedy(
            format!("there is no process {pid}, or it ended while it was looked at"),
            "name one that runs",
        ),
        io::ErrorKind::PermissionDenied => Failure::with_remedy(
            format!("the process {pid} may not be looked at"),
            "ask as root, or as the account that it runs as",
        ),
        _ => Failure::with_remedy(format!("can't look at the process {pid}: {error}"), "ask again"),
    }
}

/// A site for a question about one path; it works without a layout, for this machine.
///
/// `depth` says how much of it is looked at where that is live, and `reading` how much is read of
/// surveys.
pub(crate) fn asked(
    globals: &Globals,
    view: Option<&str>,
    path: &OsStr,
    depth: Depth,
    reading: Reading,
) -> Result<Query, Failure> {
    Ok(asked_for_two(globals, view, (path, depth), None, reading)?.0)
}

/// A folder of this machine with everything below it, and nothing else.
pub(crate) fn folder_here(folder: &OsStr) -> Result<(Site, Place), Failure> {
    let own = observe::host_name();
    let view = View::Host(own.clone());
    let site = Site::join(Layout::default(), Vec::new()).map_err(twice)?;
    let (process, layout, parts) = (None, LayoutFile::default(), Parts::default());
    let opened = Opened { site, view, own, process, layout, parts };
    let (_, written) = opened.typed(folder)?;
    let opened = opened.looked_at(&[(written.clone(), Depth::Everything)])?;
    let subject = opened.usual_subject(&written);
    let route = follow_written(&opened.site, &opened.view, &written, &subject);
    if let Some(why) = absent(&opened.site, &route) {
        return Err(Failure::new(format!("{} does not exist: {why}", shown(folder.as_bytes()))));
    }
    let place = route.here().clone();
    Ok((opened.site, place))
}

/// As [`asked`], for a question about a path, and another one that something of the first is to
/// have: both as they were typed, but absolute.
pub(crate) fn asked_for_two(
    globals: &Globals,
    view: Option<&str>,
    (path, depth): (&OsStr, Depth),
    other: Option<&OsStr>,
    reading: Reading,
) -> Result<(Query, Option<Typed>), Failure> {
    let opened = Opened::new(globals, view, reading)?;
    let (path, written) = typed(&opened.site, &opened.view, path)?;
    let other = other.map(|other| typed(&opened.site, &opened.view, other)).transpose()?;
    let mut paths = vec![(written.clone(), depth)];
    if let Some((_, to)) = &other {
        // In a folder it gets its own name.
        let (_, name) = split(&written);
        paths.extend([(to.clone(), Depth::Names), ([to, &b"/"[..], name].concat(), Depth::Names)]);
    }
    let Opened { site, view, own, process, layout, parts } = opened.looked_at(&paths)?;
    Ok((Query { site, view, path, written, own, process, layout, parts }, other))
}

/// A site and a viewpoint, before anything was looked at for the question.
pub(crate) struct Opened {
    pub(crate) site: Site,
    pub(crate) view: View,
    own: Name,
    pub(crate) process: Option<Process>,
    layout: LayoutFile,
    parts: Parts,
}

impl Opened {
    /// A path is this machine's own unless a viewpoint is named; then only the layout can tell what
    /// it means.
    pub(crate) fn new(
        globals: &Globals,
        view: Option<&str>,
        reading: Reading,
    ) -> Result<Self, Failure> {
        let found = find_layout(globals)?;
        let process =
            view.and_then(|view| view.strip_prefix("process:")).map(process).transpose()?;
        let layout = found.as_ref().map(Found::layout_file).unwrap_or_default();
        let (site, parts, this_host) = match found {
            Some(layout) => {
                let this_host = this_host(globals, &layout.parsed)?;
                let (site, parts) = with_surveys(globals, layout, reading)?;
                (site, parts, this_host)
            }
            None if view.is_some() && process.is_none() => return Err(no_layout()),
            None => {
                let (facts, parts) = surveys(&globals.survey, reading)?;
                (Site::join(Layout::default(), facts).map_err(twice)?, parts, None)
            }
        };
        let own = this_host.unwrap_or_else(observe::host_name);
        let view = match (view, &process) {
            (_, Some(process)) => View::Host(process.name()),
            (Some(view), None) => viewpoint(&site, view)?,
            (None, None) => View::Host(own.clone()),
        };
        Ok(Self { site, view, own, process, layout, parts })
    }

    /// With what is seen now on the ways of some paths of the view, where that is this machine's or
    /// a process's.
    pub(crate) fn looked_at(self, paths: &[(Vec<u8>, Depth)]) -> Result<Self, Failure> {
        let Self { site, view, own, process, layout, mut parts } = self;
        let site = match (site.facts(&own), &process) {
            (Some(_), None) => site,
            (None, None) => {
                let look = |base, places| with_live(base, &own, places);
                looked_at((site, &mut parts), &own, &view, paths, &look)?
            }
            (seen, Some(process)) => {
                // Its host's mounts say where what it sees lies there.
                let site = if seen.is_some() { site } else { with_live(site, &own, Vec::new())? };
                let look = |base, places| with_process(base, process, &own, places);
                let site = looked_at((site, &mut parts), &process.name(), &view, paths, &look)?;
                process.still_there().map_err(|error| gone(process.pid, &error))?;
                site
            }
        };
        Ok(Self { site, view, own, process, layout, parts })
    }

    /// A path as it was typed, as the viewpoint takes it.
    pub(crate) fn typed(&self, path: &OsStr) -> Result<Typed, Failure> {
        typed(&self.site, &self.view, path)
    }
}

/// A path as it was typed, as a viewpoint takes it.
fn typed(site: &Site, view: &View, path: &OsStr) -> Result<Typed, Failure> {
    let addressed = match view {
        View::Host(host) => address::resolve(site, host, path.as_bytes()),
        View::Service(_) => None,
    };
    let addressed = addressed.transpose().map_err(|why| {
        Failure::with_remedy(why, "mount it there first, or ask from a host that has mounted it")
    })?;
    let addressed = addressed.map(OsString::from_vec);
    absolute(addressed.as_deref().unwrap_or(path), view)
}

/// How often what was seen may lead to places that were not looked at yet: through symlinks,
/// mappings in mappings, binds.
const MOST_LOOKS: usize = 12;

/// Looks at this machine wherever the ways of some paths lead, again until they lead nowhere new.
fn looked_at(
    (mut base, parts): (Site, &mut Parts),
    own: &Name,
    view: &View,
    paths: &[(Vec<u8>, Depth)],
    look: &dyn Fn(Site, Vec<(AbsPath, Depth)>) -> Result<Site, Failure>,
) -> Result<Site, Failure> {
    let mut places: BTreeMap<AbsPath, Depth> = BTreeMap::new();
    let mut site = base.clone();
    let mut looks = 0;
    while looks < MOST_LOOKS {
        let mut new = false;
        let on_the_way = paths.iter().flat_map(|(written, depth)| {
            let places = places::for_path(&site, own, view, written).into_iter();
            places.map(|(place, is_end)| (place, if is_end { *depth } else { Depth::Entry }))
        });
        let everything = paths.iter().filter(|(_, depth)| *depth == Depth::Everything);
        let linked = everything.flat_map(|(written, depth)| {
            let subject = Subject::new(0, 0, []);
            let unseen =
                below(&site, &follow_written(&site, view, written, &subject)).unseen_places;
            let own = unseen.into_iter().filter(|place| place.host == *own);
            own.map(|place| (place.path, *depth))
        });
        for (place, wanted) in on_the_way.chain(linked) {
            let known = places.entry(place);
            new |= match &known {
                Entry::Occupied(known) => *known.get() < wanted,
                Entry::Vacant(_) => true,
            };
            let depth = known.or_insert(wanted);
            *depth = wanted.max(*depth);
        }
        // What surveys of other hosts hold on the way was not read yet, so that the places are not
        // all.
        let more = parts.read(&mut base)?;
        if !new && !more {
            break;
        }
        site = look(base.clone(), places.clone().into_iter().collect())?;
        looks += usize::from(!more);
    }
    Ok(site)
}

fn viewpoint(site: &Site, written: &str) -> Result<View, Failure> {
    let services = site.layout.services.iter().map(|service| View::service(&service.name));
    let hosts = site.layout.hosts.iter().map(|host| View::host(&host.name));
    match written.split_once(':').map(|(kind, name)| (kind, Name::from(name))) {
        Some(("service", name)) if site.layout.service(&name).is_some() => {
            return Ok(View::Service(name));
        }
        Some(("host" | "client", name)) if site.knows(&name) => return Ok(View::Host(name)),
        _ => {}
    }
    let known: Vec<String> = services.chain(hosts).map(|view| view.to_string()).collect();
    let remedy = match nearest(written, known.iter().map(String::as_str)) {
        Some(near) => format!("did you mean {near}?"),
        None => format!("known: {}", known.join(", ")),
    };
    let message = format!("there is no viewpoint {}", Name::from(written));
    Err(Failure::with_remedy(message, remedy))
}

/// A path as it was typed: relative to here on this machine, absolute elsewhere.
fn absolute(path: &OsStr, view: &View) -> Result<Typed, Failure> {
    let written = path.as_bytes();
    let typed = match AbsPath::of_client(written) {
        _ if written.starts_with(b"/") => written.to_vec(),
        Ok(path) => path.as_bytes().to_vec(),
        Err(_) => match view {
            View::Host(host) if *host == observe::host_name() => {
                [std::env::current_dir()?.as_os_str().as_bytes(), b"/", written].concat()
            }
            _ => {
                let message = format!("{} is not absolute", shown(written));
                return Err(Failure::with_remedy(message, format!("write it as {view} sees it")));
            }
        },
    };
    if written.is_empty() || written.contains(&0) {
        return Err(Failure::new("the path is empty"));
    }
    let mut path = AbsPath::root();
    for part in components(&typed) {
        if part == b".." {
            path = path.parent().unwrap_or(path);
        } else {
            path.push(part);
        }
    }
    Ok((path, typed))
}

/// Who asks where nobody is named: the account of a service, on this machine whoever runs this,
/// elsewhere root.
pub(crate) fn usual_subject(asked: &Query) -> (Subject, Option<String>) {
    let Query { site, view, own, process, written, .. } = asked;
    usual(site, view, own, process.as_ref(), written)
}

impl Opened {
    /// As [`usual_subject`], for a path of the view.
    pub(crate) fn usual_subject(&self, written: &[u8]) -> Subject {
        usual(&self.site, &self.view, &self.own, self.process.as_ref(), written).0
    }
}

fn usual(
    site: &Site,
    view: &View,
    own: &Name,
    process: Option<&Process>,
    written: &[u8],
) -> (Subject, Option<String>) {
    if let Some(process) = process {
        let remark =
            "what a security module or a filter of system calls would refuse besides is unknown";
        return (process.subject(), Some(remark.to_owned()));
    }
    match view {
        View::Service(name) => {
            let service = site.layout.service(name).expect("the viewpoint was checked");
            site.subject_of(service)
        }
        View::Host(host) if host == own => {
            let (gid, groups) = observe::own_groups();
            (Subject::new(observe::own_uid(), gid, groups), None)
        }
        View::Host(host) => {
            // Over SMB it is the mount's user who comes to the server, whoever asks.
            let root = Subject::new(0, 0, []);
            let route = follow_written(site, view, written, &root);
            let client = site.layout.host(host).is_some_and(|host| host.os == Os::Windows);
            let arrived = route.arrived();
            if client && *arrived != root && arrived.doubt.is_none() {
                let remark = "nobody is named, so it is the user of the mount who asks".into();
                return (arrived.clone(), Some(remark));
            }
            (root, Some("nobody is named, so it is root who asks".into()))
        }
    }
}

/// A subject as it is written: UID, UID:GID, UID:GID,GID… or an account's name. A bare uid or name
/// is what a login as that account would be; the remark says where something had to be assumed.
pub(crate) fn subject(
    site: &Site,
    view: &View,
    written: &str,
) -> Result<(Subject, Option<String>), Failure> {
    let host = match view {
        View::Host(host) => host.clone(),
        View::Service(name) => {
            site.layout.service(name).map(|s| s.host.clone()).unwrap_or_default()
        }
    };
    let name = Name::from(written);
    let bad = || {
        let message = format!("{name} is no subject");
        Failure::with_remedy(message, "write UID, UID:GID, UID:GID,GID or the name of an account")
    };
    if written.contains(':') {
        return Ok((numbers(written).ok_or_else(bad)?, None));
    }
    let uid = written.parse::<u32>();
    if uid.as_ref().is_ok_and(|uid| *uid > LARGEST_ID) {
        return Err(bad());
    }
    let account = site.accounts(&host).find(|account| match &uid {
        Ok(uid) => account.uid == *uid,
        Err(_) => account.name == name,
    });
    match (account, uid) {
        (Some(account), _) => Ok((site.login(&host, account), None)),
        (None, Ok(uid)) => {
            let remark = format!("uid {uid} has no account on {host}: gid {uid} is assumed");
            Ok((Subject::new(uid, uid, []), Some(remark)))
        }
        (None, Err(_)) => {
            let names = site.accounts(&host).map(|account| account.name.raw());
            let near = nearest(written, names).ok_or_else(bad)?;
            let remedy = format!("did you mean {}?", Name::from(near));
            Err(Failure::with_remedy(format!("{host} has no account {name}"), remedy))
        }
    }
}

/// `UID:GID` or `UID:GID,GID…`.
pub(crate) fn numbers(written: &str) -> Option<Subject> {
    let (uid, gids) = written.split_once(':')?;
    let gids: Vec<u32> = gids.split(',').map(id).collect::<Option<_>>()?;
    let (gid, groups) = gids.split_first()?;
    Some(Subject::new(id(uid)?, *gid, groups.iter().copied()))
}
