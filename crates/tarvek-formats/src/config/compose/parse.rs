//! From the tree of a Compose file to the parts of a service that matter here, with variables
//! filled in.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use tarvek_core::facts::configured::PortFact;
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::secret;
use tarvek_core::words::spot::Spot;
use tarvek_core::words::terms::Access;

use super::project::Project;
use super::volumes::{Modes, is_path, short};
use super::{interpolate, ports};
use crate::config::collect::Collect;
use crate::config::yaml::{Key, Mark, Node};

/// A text, and where it stands.
pub(super) type Said = (String, Spot);

/// What a service says.
#[derive(Clone, Debug, Default)]
pub(super) struct Parts {
    pub(super) spot: Spot,
    /// Of what it takes the place where it is merged.
    pub(super) replaces: Vec<Field>,
    /// The service that it extends, and the file of that one if it is another.
    pub(super) extends: Option<(Name, Option<PathBuf>, Spot)>,
    pub(super) user: Option<Said>,
    pub(super) image: Option<Said>,
    pub(super) network_mode: Option<Said>,
    pub(super) userns: Option<Said>,
    /// A variable without a value is the caller's.
    pub(super) environment: Vec<(String, Option<String>, Spot)>,
    /// With whether it has to be there.
    pub(super) env_files: Vec<(PathBuf, bool, Spot)>,
    pub(super) volumes: Vec<Volume>,
    pub(super) tmpfs: Vec<(Spot, String)>,
    pub(super) ports: Vec<(Spot, PortFact)>,
    pub(super) groups: Vec<Said>,
    pub(super) networks: Vec<Said>,
}

/// A part of a service that can be reset.
#[derive(Clone, Copy, Debug)]
pub(super) enum Field {
    User,
    Image,
    NetworkMode,
    Userns,
    Environment,
    EnvFiles,
    Volumes,
    Tmpfs,
    Ports,
    Groups,
    Networks,
}

const FIELDS: [(&str, Field); 11] = [
    ("user", Field::User),
    ("image", Field::Image),
    ("network_mode", Field::NetworkMode),
    ("userns_mode", Field::Userns),
    ("environment", Field::Environment),
    ("env_file", Field::EnvFiles),
    ("volumes", Field::Volumes),
    ("tmpfs", Field::Tmpfs),
    ("ports", Field::Ports),
    ("group_add", Field::Groups),
    ("networks", Field::Networks),
];

/// Something at a path of a service.
#[derive(Clone, Debug)]
pub(super) struct Volume {
    pub(super) source: Source,
    pub(super) to: String,
    /// The part of a volume that is meant (`subpath`).
    pub(super) below: Option<String>,
    pub(super) modes: Modes,
    pub(super) spot: Spot,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Source {
    /// A folder of the host.
    Folder(String),
    /// A volume by its key.
    Volume(String),
    /// A folder that the engine makes for this container.
    Unnamed,
    Memory,
}

/// A declared volume.
#[derive(Clone, Debug, Default)]
pub(super) struct Declared {
    pub(super) source: Option<Name>,
    pub(super) filesystem: Option<Name>,
    pub(super) options: Option<MountOptions>,
    /// Whether a value of whoever asks went into it.
    pub(super) outside: bool,
}

pub(super) type Volumes = HashMap<String, Declared>;

/// Fills the variables of a text.
fn filled(project: &Project, text: &str, at: &Spot, out: &mut Collect) -> Option<String> {
    project.outside.set(false);
    let filled = interpolate::fill(text, &|name| project.variable(name));
    if project.outside.get() {
        out.mark_outside(at);
    }
    match filled {
        Ok(filled) => {
            for name in filled.unset {
                out.skip(at, format!("{name} has no value; an engine takes an empty one"));
            }
            Some(filled.text)
        }
        Err(why) => {
            out.skip(at, why);
            None
        }
    }
}

/// A text, with its variables filled in; anything else is told.
fn filled_text(project: &Project, node: &Node, out: &mut Collect) -> Option<Said> {
    match node.text() {
        Some(text) => Some((filled(project, text, &node.spot, out)?, node.spot.clone())),
        None => {
            if !node.is_null() {
                out.skip(&node.spot, "a text is needed here");
            }
            None
        }
    }
}

/// A list of texts, or one text.
fn texts(project: &Project, node: Option<&Node>, out: &mut Collect) -> Vec<Said> {
    let Some(node) = node else { return Vec::new() };
    match node.list() {
        Some(list) => list.iter().filter_map(|item| filled_text(project, item, out)).collect(),
        None => filled_text(project, node, out).into_iter().collect(),
    }
}

/// A path that may start at a folder or at home.
fn absolute(project: &Project, folder: &Path, text: &str) -> String {
    crate::config::around::absolute(folder, text, project.around)
}

/// Other files whose services belong to the project.
pub(super) fn includes(project: &Project, tree: &Node, out: &mut Collect) -> Vec<(PathBuf, Spot)> {
    let list = tree.get("include").and_then(Node::list).unwrap_or_default();
    let mut files = Vec::new();
    for item in list {
        let paths = if item.map().is_some() { item.get("path") } else { Some(item) };
        for (path, at) in texts(project, paths, out) {
            files.push((PathBuf::from(absolute(project, &project.folder, &path)), at));
        }
    }
    files
}

/// The volumes that a file declares.
pub(super) fn volumes(project: &Project, tree: &Node, out: &mut Collect) -> Volumes {
    let mut volumes = Volumes::new();
    for (key, node) in tree.get("volumes").and_then(Node::map).unwrap_or_default() {
        let mut declared = Declared::default();
        if let Some(options) = node.get("driver_opts") {
            let mut text = |name: &str| {
                let (text, at) = filled_text(project, options.get(name)?, out)?;
                declared.outside |= out.is_from_outside(&at);
                Some(text)
            };
            let (kind, device, o) = (text("type"), text("device"), text("o"));
            let o = MountOptions::read(&o.unwrap_or_default());
            declared.source = device.map(|device| {
                // An NFS server may stand among the options alone.
                let server = o.value("addr").filter(|_| device.starts_with(':'));
                let whole = server.map_or(device.clone(), |server| format!("{server}{device}"));
                secret::hide(&whole).into()
            });
            declared.filesystem = kind.map(Name::from);
            declared.options = Some(o);
        }
        volumes.insert(key.text.to_string(), declared);
    }
    volumes
}

/// What a service says; `None` if it is no map.
pub(super) fn service(
    project: &Project,
    folder: &Path,
    key: &Key,
    node: &Node,
    out: &mut Collect,
) -> Option<Parts> {
    if node.map().is_none() {
        out.skip(&key.spot, "a service is a map");
        return None;
    }
    let mut parts = Parts { spot: key.spot.clone(), ..Parts::default() };
    for (name, value) in node.map().unwrap_or_default() {
        if value.mark != Mark::None
            && let Some((_, field)) = FIELDS.iter().find(|(known, _)| *known == &*name.text)
        {
            parts.replaces.push(*field);
        }
    }
    let get = |name: &str| node.get(name).filter(|value| value.mark != Mark::Reset);
    parts.extends = get("extends").and_then(|extends| {
        let base = if extends.map().is_some() { extends.get("service")? } else { extends };
        let (base, at) = filled_text(project, base, out)?;
        let file = extends.get("file").and_then(|file| filled_text(project, file, out));
        let file = file.map(|(file, _)| PathBuf::from(absolute(project, folder, &file)));
        Some((base.into(), file, at))
    });
    parts.user = get("user").and_then(|user| filled_text(project, user, out));
    parts.image = get("image").and_then(|image| filled_text(project, image, out));
    parts.network_mode = get("network_mode").and_then(|mode| filled_text(project, mode, out));
    parts.userns = get("userns_mode").and_then(|userns| filled_text(project, userns, out));
    parts.groups = texts(project, get("group_add"), out);
    parts.networks = match get("networks").and_then(Node::map) {
        Some(map) => map.iter().map(|(k, _)| (k.text.to_string(), k.spot.clone())).collect(),
        None => texts(project, get("networks"), out),
    };
    parts.environment = environment(project, get("environment"), out);
    parts.env_files = env_files(project, folder, get("env_file"), out);
    let tmpfs = texts(project, get("tmpfs"), out);
    parts.tmpfs = tmpfs.into_iter().map(|(text, at)| (at, text)).collect();
    for item in get("volumes").and_then(Node::list).unwrap_or_default() {
        parts.volumes.extend(volume(project, folder, item, out));
    }
    let service = Name::from(&*key.text);
    for item in get("ports").and_then(Node::list).unwrap_or_default() {
        parts.ports.extend(published(project, &service, item, out));
    }
    Some(parts)
}

/// A list of `NAME=value`, or a map.
fn environment(
    project: &Project,
    node: Option<&Node>,
    out: &mut Collect,
) -> Vec<(String, Option<String>, Spot)> {
    let Some(node) = node else { return Vec::new() };
    let mut variables: Vec<(String, Option<String>, Spot)> = Vec::new();
    if let Some(map) = node.map() {
        for (key, value) in map {
            let text = if value.is_null() {
                None
            } else {
                match filled_text(project, value, out) {
                    Some((text, _)) => Some(text),
                    None => continue,
                }
            };
            variables.push((key.text.to_string(), text, key.spot.clone()));
        }
        return variables;
    }
    for (text, at) in texts(project, Some(node), out) {
        let (name, value) = match text.split_once('=') {
            Some((name, value)) => (name, Some(value.to_owned())),
            None => (text.as_str(), None),
        };
        variables.push((name.to_owned(), value, at));
    }
    variables
}

fn env_files(
    project: &Project,
    folder: &Path,
    node: Option<&Node>,
    out: &mut Collect,
) -> Vec<(PathBuf, bool, Spot)> {
    let Some(node) = node else { return Vec::new() };
    let items = node.list().unwrap_or(std::slice::from_ref(node));
    let mut files = Vec::new();
    for item in items {
        let path = if item.map().is_some() { item.get("path") } else { Some(item) };
        let required = item.get("required").and_then(Node::truth).unwrap_or(true);
        if let Some((path, at)) = path.and_then(|path| filled_text(project, path, out)) {
            files.push((PathBuf::from(absolute(project, folder, &path)), required, at));
        }
    }
    files
}

fn volume(project: &Project, folder: &Path, item: &Node, out: &mut Collect) -> Option<Volume> {
    if item.map().is_none() {
        let (text, at) = filled_text(project, item, out)?;
        let short = short(&text).map_err(|why| out.skip(&at, why)).ok()?;
        let source = match short.source {
            None => Source::Unnamed,
            Some(source) if is_path(source) => Source::Folder(absolute(project, folder, source)),
            Some(volume) => Source::Volume(volume.to_owned()),
        };
        let (to, modes) = (short.to.to_owned(), short.modes);
        return Some(Volume { source, to, below: None, modes, spot: at });
    }
    let spot = item.spot.clone();
    let mut text = |node: Option<&Node>| Some(filled_text(project, node?, out)?.0);
    let kind = text(item.get("type"));
    let source = text(item.get("source").or_else(|| item.get("src")));
    let to =
        text(item.get("target").or_else(|| item.get("destination")).or_else(|| item.get("dst")));
    let bind = item.get("bind");
    let propagation = text(bind.and_then(|bind| bind.get("propagation")));
    let label = text(bind.and_then(|bind| bind.get("selinux")));
    let below = text(item.get("volume").and_then(|volume| volume.get("subpath")));
    let Some(to) = to else {
        out.skip(&spot, "a volume has a target");
        return None;
    };
    if below.iter().flat_map(|below| below.split('/')).any(|part| part == "..") {
        out.skip(&spot, "a subpath leads out of its volume");
        return None;
    }
    let read_only = item.get("read_only").map(|node| {
        let text = filled_text(project, node, out).map(|(text, _)| text).unwrap_or_default();
        matches!(text.to_ascii_lowercase().as_str(), "true" | "yes" | "on" | "1")
    });
    let modes = Modes {
        access: if read_only == Some(true) { Access::ReadOnly } else { Access::ReadWrite },
        label: label.as_deref().and_then(crate::config::around::label),
        propagation,
        ..Modes::default()
    };
    let source = match (kind.as_deref(), source) {
        (Some("bind"), Some(source)) => Source::Folder(absolute(project, folder, &source)),
        (Some("volume") | None, Some(source)) if !is_path(&source) => Source::Volume(source),
        (None, Some(source)) => Source::Folder(absolute(project, folder, &source)),
        (Some("volume") | None, None) => Source::Unnamed,
        (Some("tmpfs"), _) => Source::Memory,
        (kind, _) => {
            let kind = kind.unwrap_or("volume");
            out.skip(&spot, format!("a volume of the type {kind:?} with this source is not known"));
            return None;
        }
    };
    Some(Volume { source, to, below, modes, spot })
}

fn published(
    project: &Project,
    service: &Name,
    item: &Node,
    out: &mut Collect,
) -> Option<(Spot, PortFact)> {
    let spot = item.spot.clone();
    let read = if item.map().is_some() {
        let mut text = |name: &str| Some(filled_text(project, item.get(name)?, out)?.0);
        let (ip, published) = (text("host_ip"), text("published"));
        let (target, protocol) = (text("target"), text("protocol"));
        let published = published.filter(|published| !published.is_empty() && published != "0");
        ports::all(
            service,
            ip.as_deref().filter(|ip| !ip.is_empty()),
            published.as_deref(),
            target.as_deref().unwrap_or_default(),
            protocol.as_deref(),
        )
    } else {
        let (text, _) = filled_text(project, item, out)?;
        ports::short(service, &text)
    };
    match read {
        Ok(fact) => Some((spot, fact)),
        Err(why) => {
            out.skip(&spot, why);
            None
        }
    }
}
