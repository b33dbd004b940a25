//! From options to a [`Site`]: the layout that is meant, what was seen of its hosts, and this machine.

use std::ffi::OsStr;
use std::io::Read;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use flate2::read::MultiGzDecoder;
use tarvek_core::facts::HostFacts;
use tarvek_core::identity::Subject;
use tarvek_core::layout::Layout;
use tarvek_core::needs;
use tarvek_core::path::{AbsPath, components};
use tarvek_core::route::View;
use tarvek_core::site::Site;
use tarvek_core::text::{nearest, shown};
use tarvek_formats::{layout, listing};
use tarvek_host::observe::{self, Depth, Look, observe};
use tarvek_host::store::{self, StoreError};
use tarvek_host::walk::Watch;

use crate::cli::Globals;
use crate::outcome::Failure;

/// A joined site, and the viewpoint and path of a question about one.
pub(crate) struct Asked {
    pub(crate) site: Site,
    pub(crate) view: View,
    pub(crate) path: AbsPath,
    /// The host that is this machine.
    pub(crate) own: String,
}

/// Reads a layout that a command can't do without.
/// With the layout's file name.
pub(crate) fn site(globals: &Globals) -> Result<(Site, String), Failure> {
    let layout = find_layout(globals)?.ok_or_else(no_layout)?;
    let file = name_of(&layout.file);
    let this_host = this_host(globals, &layout.parsed)?;
    let site = with_surveys(globals, layout)?;
    let site = match this_host {
        Some(host) if site.facts(&host).is_none() => {
            let deep =
                needs::for_libraries(&site, &host).into_iter().map(|p| (p, Depth::Everything));
            let points = needs::mount_points(&site, &host).into_iter().map(|p| (p, Depth::Names));
            with_live(site, &host, deep.chain(points).collect())?
        }
        _ => site,
    };
    let mut site = site;
    site.now = now();
    Ok((site, file))
}

/// The time at which things are judged; `TARVEK_NOW` (seconds since 1970 UTC) makes an answer that can be made again.
fn now() -> i64 {
    let given = std::env::var("TARVEK_NOW").ok().and_then(|now| now.parse().ok());
    given.unwrap_or_else(|| jiff::Timestamp::now().as_second())
}

/// The places that the layout needs of a host: datasets, shares, mapping sources, mount points, folders, libraries.
pub(crate) fn places_of(
    globals: &Globals,
    host: Option<&str>,
) -> Result<(String, Vec<(AbsPath, Depth)>), Failure> {
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
        let known: Vec<&str> = layout.parsed.hosts.iter().map(|host| host.name.as_str()).collect();
        Failure::with_remedy(
            format!("the layout does not know {}", shown(observe::host_name().as_bytes())),
            format!("say which of its hosts this is: --host {}", known.join(" or --host ")),
        )
    })?;
    let site = Site::join(layout.parsed, Vec::new()).map_err(twice)?;
    let deep = needs::for_survey(&site, &host).into_iter().map(|place| (place, Depth::Everything));
    let points = needs::mount_points(&site, &host).into_iter().map(|place| (place, Depth::Names));
    Ok((host, deep.chain(points).collect()))
}

/// A site for a question about one path; it works without a layout, for this machine.
///
/// `depth` says how much of it is looked at where that is live.
pub(crate) fn asked(
    globals: &Globals,
    view: Option<&str>,
    path: &OsStr,
    depth: Depth,
) -> Result<Asked, Failure> {
    // A path is this machine's own unless a viewpoint is named; then only the layout can tell what it means.
    let found = find_layout(globals)?;
    let (site, this_host) = match found {
        Some(layout) => {
            let this_host = this_host(globals, &layout.parsed)?;
            (with_surveys(globals, layout)?, this_host)
        }
        None if view.is_some() => return Err(no_layout()),
        None => {
            let site = Site::join(Layout::default(), surveys(&globals.survey)?).map_err(twice)?;
            (site, None)
        }
    };
    let own = this_host.unwrap_or_else(observe::host_name);
    let view = match view {
        Some(view) => viewpoint(&site, view)?,
        None => View::Host(own.clone()),
    };
    let path = absolute(path, &view)?;
    if site.facts(&own).is_some() {
        return Ok(Asked { site, view, path, own });
    }
    let mut places = needs::for_path(&site, &own, &view, &path);
    if view == View::Host(own.clone()) {
        places.push(path.clone());
    }
    if places.is_empty() {
        return Ok(Asked { site, view, path, own });
    }
    let site = with_live(site, &own, places.into_iter().map(|place| (place, depth)).collect())?;
    Ok(Asked { site, view, path, own })
}

fn no_layout() -> Failure {
    Failure::with_remedy(
        "there is no layout: no tarvek.toml here or in a folder above",
        "`tarvek draft` makes one from a short brief, `tarvek demo` writes one to look at; --layout FILE names one that lies elsewhere",
    )
}

fn twice(host: String) -> Failure {
    Failure::with_remedy(format!("two surveys are of the host {host}"), "give one survey per host")
}

struct Found {
    file: PathBuf,
    parsed: Layout,
}

fn find_layout(globals: &Globals) -> Result<Option<Found>, Failure> {
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
    let text = read_file(&file, layout::MOST_BYTES as u64)?;
    let parsed = layout::read(&name_of(&file), &text)?;
    Ok(Some(Found { file, parsed }))
}

/// Reads a regular file that somebody named; a FIFO or device in its place is never opened.
fn read_file(file: &Path, most: u64) -> Result<Vec<u8>, Failure> {
    let cant =
        |why: &dyn std::fmt::Display| Failure::new(format!("can't read {}: {why}", name_of(file)));
    let cant_open = |error: std::io::Error| match error.kind() {
        std::io::ErrorKind::NotFound => cant(&"there is no such file"),
        std::io::ErrorKind::PermissionDenied => cant(&"permission is denied"),
        _ => cant(&error),
    };
    let meta = std::fs::metadata(file).map_err(cant_open)?;
    if meta.is_dir() {
        return Err(cant(&"it is a folder"));
    }
    if !meta.is_file() {
        return Err(cant(&"it is no regular file"));
    }
    if meta.len() > most {
        let size = meta.len() >> 20;
        return Err(cant(&format!("{size} MiB is too large; at most {} MiB are read", most >> 20)));
    }
    std::fs::read(file).map_err(cant_open)
}

/// Reads a small text file that somebody named.
pub(crate) fn small_file(file: &Path) -> Result<Vec<u8>, Failure> {
    read_file(file, layout::MOST_BYTES as u64)
}

/// The layout that a command is about, and its file's name.
pub(crate) fn layout(globals: &Globals) -> Result<(Layout, String), Failure> {
    let found = find_layout(globals)?.ok_or_else(no_layout)?;
    Ok((found.parsed, name_of(&found.file)))
}

/// A listing of a host with millions of files.
const MOST_LISTING: u64 = 4 << 30;

pub(crate) fn name_of(file: &Path) -> String {
    shown(file.as_os_str().as_bytes())
}

fn surveys(files: &[PathBuf]) -> Result<Vec<HostFacts>, Failure> {
    files.iter().map(|file| survey(file)).collect()
}

/// What was seen of a host, from a survey or a listing.
pub(crate) fn survey(file: &Path) -> Result<HostFacts, Failure> {
    if starts_with_magic(file)? {
        return store::load(file).map_err(|error| store_failure(file, &error));
    }
    listing(&name_of(file), read_file(file, MOST_LISTING)?)
}

/// Reads a listing, packed or not.
pub(crate) fn listing(name: &str, bytes: Vec<u8>) -> Result<HostFacts, Failure> {
    if !bytes.starts_with(&[0x1f, 0x8b]) {
        return Ok(listing::read(name, &bytes)?);
    }
    let mut text = Vec::new();
    let most = MOST_LISTING + 1;
    let unpacked = MultiGzDecoder::new(bytes.as_slice()).take(most).read_to_end(&mut text);
    unpacked.map_err(|_| {
        Failure::with_remedy(
            format!("can't unpack {name}: the gzip data is damaged or cut off"),
            "copy it again",
        )
    })?;
    if text.len() as u64 == most {
        return Err(Failure::new(format!(
            "{name} unpacks to more than {} MiB",
            MOST_LISTING >> 20
        )));
    }
    Ok(listing::read(name, &text)?)
}

/// Says which survey can't be used, why, and what to do.
pub(crate) fn store_failure(file: &Path, error: &StoreError) -> Failure {
    Failure::with_remedy(format!("can't use {}: {}", name_of(file), error.message), &error.remedy)
}

fn starts_with_magic(file: &Path) -> Result<bool, Failure> {
    let regular = std::fs::metadata(file).is_ok_and(|meta| meta.is_file());
    if !regular {
        // Reading it says what is wrong.
        return Ok(false);
    }
    let mut start = Vec::new();
    std::fs::File::open(file)
        .and_then(|file| file.take(16).read_to_end(&mut start))
        .map_err(|error| Failure::new(format!("can't read {}: {error}", name_of(file))))?;
    Ok(store::is_survey(&start))
}

/// The surveys that are given, else those that stand beside the layout under their host's name.
fn with_surveys(globals: &Globals, layout: Found) -> Result<Site, Failure> {
    let mut files = globals.survey.clone();
    if files.is_empty() {
        let folder = layout.file.parent().unwrap_or(Path::new(""));
        let beside = |host: &str| {
            let names = ["survey", "listing"].map(|ending| folder.join(format!("{host}.{ending}")));
            names.into_iter().find(|file| file.is_file())
        };
        files.extend(layout.parsed.hosts.iter().filter_map(|host| beside(&host.name)));
    }
    Site::join(layout.parsed, surveys(&files)?).map_err(twice)
}

fn with_live(site: Site, host: &str, places: Vec<(AbsPath, Depth)>) -> Result<Site, Failure> {
    let watch = Watch::default();
    let look = Look { places: &places, documents: false, watch: &watch };
    let mut facts = observe(&look)?;
    facts.name = host.to_owned();
    site.with(facts).map_err(twice)
}

/// The host of the layout that is this machine.
fn this_host(globals: &Globals, layout: &Layout) -> Result<Option<String>, Failure> {
    if let Some(name) = &globals.this_host {
        if layout.host(name).is_some() {
            return Ok(Some(name.clone()));
        }
        let known: Vec<&str> = layout.hosts.iter().map(|host| host.name.as_str()).collect();
        let remedy = match nearest(name, known.iter().copied()) {
            Some(near) => format!("did you mean {near}?"),
            None => format!("the layout has: {}", known.join(", ")),
        };
        return Err(Failure::with_remedy(
            format!("the layout has no host {}", shown(name.as_bytes())),
            remedy,
        ));
    }
    let own = observe::host_name();
    let site = Site::join(layout.clone(), Vec::new()).map_err(twice)?;
    Ok(site.host_named(&own).map(str::to_owned))
}

fn viewpoint(site: &Site, written: &str) -> Result<View, Failure> {
    let services = || site.layout.services.iter().map(|service| service.name.as_str());
    let hosts = || site.layout.hosts.iter().map(|host| host.name.as_str());
    let all = || {
        let services = services().map(|name| format!("service:{name}"));
        services.chain(hosts().map(|name| format!("host:{name}"))).collect::<Vec<_>>()
    };
    match written.split_once(':') {
        Some(("service", name)) if services().any(|known| known == name) => {
            return Ok(View::Service(name.to_owned()));
        }
        Some(("host" | "client", name)) if site.knows(name) => {
            return Ok(View::Host(name.to_owned()));
        }
        _ => {}
    }
    let known = all();
    let remedy = match nearest(written, known.iter().map(String::as_str)) {
        Some(near) => format!("did you mean {near}?"),
        None => format!("known: {}", known.join(", ")),
    };
    Err(Failure::with_remedy(
        format!("there is no viewpoint {}", shown(written.as_bytes())),
        remedy,
    ))
}

/// A path as it was typed: relative to here on this machine, absolute elsewhere.
fn absolute(path: &OsStr, view: &View) -> Result<AbsPath, Failure> {
    let written = path.as_bytes();
    let typed = match AbsPath::of_client(written) {
        Ok(path) => return Ok(path),
        Err(_) if written.starts_with(b"/") => written.to_vec(),
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
    // A shell's `..` is taken by name, as `cd` takes it.
    let mut path = AbsPath::root();
    for part in components(&typed) {
        if part == b".." {
            path = path.parent().unwrap_or(path);
        } else {
            path.push(part);
        }
    }
    Ok(path)
}

/// Who asks where nobody is named: the account of a service, on this machine whoever runs this, elsewhere root.
pub(crate) fn usual_subject(asked: &Asked) -> (Subject, Option<String>) {
    match &asked.view {
        View::Service(name) => {
            let service = asked.site.layout.service(name).expect("the viewpoint was checked");
            asked.site.subject_of(service)
        }
        View::Host(host) if *host == asked.own => {
            let (gid, groups) = observe::own_groups();
            (Subject::new(observe::own_uid(), gid, groups), None)
        }
        View::Host(_) => {
            (Subject::new(0, 0, []), Some("nobody is named, so it is root who asks".into()))
        }
    }
}

/// A subject as it is written: UID, UID:GID, UID:GID,GID… or an account's name. A bare uid or name is what a login as that
/// account would be; the remark says where something had to be assumed.
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
    let bad = || {
        let message = format!("{} is no subject", shown(written.as_bytes()));
        Failure::with_remedy(message, "write UID, UID:GID, UID:GID,GID or the name of an account")
    };
    let Some((uid, gids)) = written.split_once(':') else {
        let uid = written.parse::<u32>();
        let account = site.accounts(&host).find(|account| match &uid {
            Ok(uid) => account.uid == *uid,
            Err(_) => account.name == written,
        });
        return match (account, uid) {
            (Some(account), _) => Ok((site.login(&host, account), None)),
            (None, Ok(uid)) => {
                let remark = format!("uid {uid} has no account on {host}: gid {uid} is assumed");
                Ok((Subject::new(uid, uid, []), Some(remark)))
            }
            (None, Err(_)) => {
                let names = site.accounts(&host).map(|account| account.name.as_str());
                let remedy = nearest(written, names).map(|near| format!("did you mean {near}?"));
                Err(match remedy {
                    Some(remedy) => {
                        let message =
                            format!("{host} has no account {}", shown(written.as_bytes()));
                        Failure::with_remedy(message, remedy)
                    }
                    None => bad(),
                })
            }
        };
    };
    let uid = uid.parse().map_err(|_| bad())?;
    let gids: Vec<u32> =
        gids.split(',').map(str::parse).collect::<Result<_, _>>().map_err(|_| bad())?;
    let (gid, groups) = gids.split_first().ok_or_else(bad)?;
    Ok((Subject::new(uid, *gid, groups.iter().copied()), None))
}
