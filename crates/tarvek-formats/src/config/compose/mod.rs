//! Files of the Compose Specification: what their services see, under which account, and which
//! ports they publish.
//!
//! Values are those that an engine would come to: variables filled in, files merged, services
//! extended.

mod interpolate;
mod merge;
mod parse;
pub(crate) mod ports;
mod project;
pub(crate) mod volumes;

use self::project::Project;

use std::cell::Cell;
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::rc::Rc;

use tarvek_core::facts::configured::{Fact, MappingFact, ServiceFact, VolumeFact};
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::spot::Spot;
use tarvek_core::words::terms::{Access, id};

use self::merge::merged;
use self::parse::{Parts, Source, Volumes};
use super::around::{Around, File};
use super::collect::{Collect, spot};
use super::dotenv;
use super::yaml::{self, Node};
use crate::mistake::{Refused, in_line};

/// Services extend each other no deeper.
const DEEPEST: usize = 16;

/// Services in their order, by their name.
#[derive(Default)]
struct Services {
    list: Vec<(Name, Parts)>,
    places: HashMap<Name, usize>,
}

impl Services {
    fn get(&self, name: &Name) -> Option<&Parts> {
        Some(&self.list[*self.places.get(name)?].1)
    }

    /// Adds one, or merges it with what is there of it.
    fn add(&mut self, name: Name, parts: Parts) {
        match self.places.get(&name) {
            Some(&at) => {
                let known = &mut self.list[at].1;
                *known = merged(std::mem::take(known), parts);
            }
            None => {
                self.places.insert(name.clone(), self.list.len());
                self.list.push((name, parts));
            }
        }
    }
}

/// Reads a project: its files in the order in which they are merged, at least one. Returns those
/// that are broken as a whole; the others are read all the same.
pub(crate) fn read(files: &[File], around: &Around, out: &mut Collect) -> Vec<Refused> {
    let mut refused = Vec::new();
    let main = &files[0];
    let folder = main.path.parent().unwrap_or(Path::new("/")).to_owned();
    let (variables, outside) = (HashMap::new(), Cell::new(false));
    let mut project = Project { folder, main, around, variables, outside };
    environment(&mut project, out);
    let mut services = Services::default();
    let mut volumes = Volumes::new();
    let mut included: HashSet<PathBuf> = files.iter().map(|file| file.path.clone()).collect();
    for file in files {
        out.open_but(&file.name, &file.text, KIND, is_account);
        let taken = tree(file).map_err(|broken| broken.into_refused(file)).map(|(tree, twice)| {
            tell_twice(&twice, out);
            take(&project, &tree, &mut services, &mut volumes, &mut included, out);
        });
        refused.extend(taken.err());
    }
    for (name, parts) in &services.list {
        tell(&project, name, parts, &volumes, out);
    }
    refused
}

/// What secrets are found in.
const KIND: &str = "a Compose file";

/// `user: lantern:keepers` is an account and its group.
fn is_account(line: &str) -> bool {
    line.trim_start().starts_with("user:")
}

/// What is wrong with a file as a whole.
struct Broken {
    line: usize,
    column: usize,
    message: String,
    remedy: &'static str,
}

impl Broken {
    /// With the line of a file that somebody named.
    fn into_refused(self, file: &File) -> Refused {
        let line = file.text.lines().nth(self.line - 1).unwrap_or_default();
        let place = (self.line, self.column);
        in_line(file.name.raw(), place.0, place.1, line.as_bytes(), self.message, self.remedy)
    }
}

/// The tree of a file, and keys that stand in it twice.
fn tree(file: &File) -> Result<(Node, Vec<yaml::Key>), Broken> {
    let (tree, twice) = yaml::read(&file.name, &file.text).map_err(|broken| Broken {
        line: broken.line,
        column: broken.column,
        message: format!("this is no YAML: {}", broken.message),
        remedy: "mend the YAML there; nothing of the file was taken",
    })?;
    match tree.map() {
        Some(_) => Ok((tree, twice)),
        None => Err(Broken {
            line: 1,
            column: 1,
            message: "a Compose file is a map with `services`".into(),
            remedy: "give the file that describes the containers",
        }),
    }
}

/// The variables of the project's `.env`.
fn environment(project: &mut Project, out: &mut Collect) {
    let path = project.folder.join(".env");
    let Ok(bytes) = (project.around.read)(&path) else { return };
    let text = String::from_utf8_lossy(&bytes);
    let name = project.name_of(&path);
    out.open_followed(&name, &text, "a file of variables");
    let (read, odd) = dotenv::read(&text);
    for line in odd {
        out.skip(&spot(&name, line), "it is no NAME=value");
    }
    for (key, line, value) in read {
        let Some(value) = value else { continue };
        project.outside.set(false);
        match interpolate::fill(&value, &|name| project.variable(name)) {
            Ok(filled) => {
                let outside = project.outside.get();
                project.variables.insert(key, (filled.text, outside));
            }
            Err(why) => out.skip(&spot(&name, line), why),
        }
    }
}

/// Takes what a file declares, after what it includes. Each file is a part of the project once,
/// however often it is included.
fn take(
    project: &Project,
    tree: &Node,
    services: &mut Services,
    volumes: &mut Volumes,
    included: &mut HashSet<PathBuf>,
    out: &mut Collect,
) {
    for (path, at) in parse::includes(project, tree, out) {
        if !included.insert(path.clone()) {
            continue;
        }
        match another(project, &path, out) {
            Ok(tree) => take(project, &tree, services, volumes, included, out),
            Err(why) => out.skip(&at, why),
        }
    }
    volumes.extend(parse::volumes(project, tree, out));
    let own = services_of(project, &project.folder, tree, out);
    let mut others = HashMap::new();
    // A service extends what its own file says of another, before files are merged.
    for (name, _) in &own.list {
        let parts = extended(project, &own, name, &mut others, &mut Vec::new(), out);
        services.add(name.clone(), parts);
    }
}

/// The services of a file; relative paths start at a folder.
fn services_of(project: &Project, folder: &Path, tree: &Node, out: &mut Collect) -> Services {
    let mut services = Services::default();
    for (key, node) in tree.get("services").and_then(Node::map).unwrap_or_default() {
        if let Some(parts) = parse::service(project, folder, key, node, out) {
            services.add(Name::from(&*key.text), parts);
        }
    }
    services
}

/// The tree of another file that a project names.
fn another(project: &Project, path: &Path, out: &mut Collect) -> Result<Node, String> {
    let name = project.name_of(path);
    let bytes = (project.around.read)(path).map_err(|why| format!("can't read {name}: {why}"))?;
    let file = File::new(path.to_owned(), name, bytes);
    out.open_followed(&file.name, &file.text, KIND);
    // What it says instead is nobody's business.
    let (tree, twice) = tree(&file)
        .map_err(|broken| format!("{}:{} is no Compose file", file.name, broken.line))?;
    tell_twice(&twice, out);
    Ok(tree)
}

fn tell_twice(twice: &[yaml::Key], out: &mut Collect) {
    for key in twice {
        out.skip(&key.spot, format!("{:?} stands twice; the last one counts", &*key.text));
    }
}

/// The services of other files, by path; `None` of those that can't be read.
type Others = HashMap<PathBuf, Option<Rc<Services>>>;

/// A service with what it extends.
fn extended(
    project: &Project,
    services: &Services,
    name: &Name,
    others: &mut Others,
    below: &mut Vec<Spot>,
    out: &mut Collect,
) -> Parts {
    let Some(parts) = services.get(name) else { return Parts::default() };
    let Some((base, file, at)) = parts.extends.clone() else { return parts.clone() };
    if below.contains(&parts.spot) || below.len() >= DEEPEST {
        out.skip(&at, "services extend each other in a circle");
        return parts.clone();
    }
    below.push(parts.spot.clone());
    let found = match file {
        None => {
            let known = services.get(&base).is_some();
            known.then(|| extended(project, services, &base, others, below, out))
        }
        Some(path) => {
            let there = match others.get(&path) {
                Some(there) => there.clone(),
                None => {
                    let folder = path.parent().unwrap_or(Path::new("/")).to_owned();
                    let tree = another(project, &path, out).map_err(|why| out.skip(&at, why)).ok();
                    let there = tree.map(|tree| Rc::new(services_of(project, &folder, &tree, out)));
                    others.insert(path.clone(), there.clone());
                    there
                }
            };
            let Some(there) = there else {
                below.pop();
                return parts.clone();
            };
            let known = there.get(&base).is_some();
            known.then(|| extended(project, &there, &base, others, below, out))
        }
    };
    below.pop();
    match found {
        Some(base) => merged(base, parts.clone()),
        None => {
            out.skip(&at, format!("there is no service {base} to extend"));
            parts.clone()
        }
    }
}

/// Makes facts of a service.
fn tell(project: &Project, name: &Name, parts: &Parts, volumes: &Volumes, out: &mut Collect) {
    let environment = all_variables(project, parts, out);
    let number = |key: &str| {
        let (_, value) = environment.get(key)?;
        id(value.trim())
    };
    let mut fact = ServiceFact { name: name.clone(), ..ServiceFact::default() };
    match &parts.user {
        Some((user, _)) if !user.is_empty() => {
            fact.user = Some(user.as_str().into());
            let (uid, gid) =
                user.split_once(':').map_or((user.as_str(), None), |(u, g)| (u, Some(g)));
            (fact.uid, fact.gid) = (id(uid), gid.and_then(id));
        }
        _ => (fact.uid, fact.gid) = (number("PUID"), number("PGID")),
    }
    if let Some((at, written)) = environment.get("UMASK") {
        let umask = u16::from_str_radix(written.trim(), 8).ok().filter(|umask| *umask <= 0o777);
        if umask.is_none() && !written.is_empty() {
            out.skip(at, format!("{written:?} is no umask"));
        }
        fact.umask = umask;
    }
    for key in ["PUID", "PGID"] {
        if let Some((at, written)) = environment.get(key)
            && parts.user.is_none()
            && id(written.trim()).is_none()
        {
            out.skip(at, format!("{written:?} is no id"));
        }
    }
    fact.groups = parts.groups.iter().map(|(group, _)| group.as_str().into()).collect();
    fact.userns = parts.userns.as_ref().map(|(userns, _)| userns.as_str().into());
    fact.image = parts.image.as_ref().map(|(image, _)| image.as_str().into());
    fact.network = match (&parts.network_mode, parts.networks.as_slice()) {
        (Some((mode, _)), _) => Some(mode.as_str().into()),
        (None, [(network, _)]) => Some(network.as_str().into()),
        _ => None,
    };
    let of_account = ["PUID", "PGID", "UMASK"].map(|key| environment.get(key).map(|(at, _)| at));
    let said = [&parts.user, &parts.userns, &parts.image, &parts.network_mode];
    let lists = parts.groups.iter().chain(&parts.networks);
    let spots = said.into_iter().flatten().chain(lists).map(|(_, at)| at);
    if of_account.into_iter().flatten().chain(spots).any(|at| out.is_from_outside(at)) {
        out.mark_outside(&parts.spot);
    }
    out.fact(&parts.spot, Fact::Service(fact));
    for volume in &parts.volumes {
        let to = volume.to.clone().into_bytes();
        let fact = match &volume.source {
            Source::Folder(from) => Fact::Mapping(MappingFact {
                service: name.clone(),
                from: from.clone().into_bytes(),
                to,
                access: volume.modes.access,
                label: volume.modes.label,
                propagation: volume.modes.propagation.clone(),
                idmap: volume.modes.idmap,
            }),
            Source::Volume(key) => {
                let declared = volumes.get(key.as_str());
                if declared.is_none() {
                    out.skip(&volume.spot, format!("no volume {key:?} is declared"));
                }
                let declared = declared.cloned().unwrap_or_default();
                if declared.outside {
                    out.mark_outside(&volume.spot);
                }
                Fact::Volume(VolumeFact {
                    service: name.clone(),
                    volume: Some(key.as_str().into()),
                    to,
                    access: volume.modes.access,
                    source: declared.source.map(|source| match &volume.below {
                        Some(below) => {
                            let whole = source.raw().trim_end_matches('/');
                            format!("{whole}/{}", below.trim_matches('/')).into()
                        }
                        None => source,
                    }),
                    filesystem: declared.filesystem,
                    options: declared.options,
                    label: volume.modes.label,
                })
            }
            Source::Unnamed | Source::Memory => Fact::Volume(VolumeFact {
                service: name.clone(),
                volume: None,
                to,
                access: volume.modes.access,
                source: (volume.source == Source::Memory).then(|| "tmpfs".into()),
                filesystem: None,
                options: None,
                label: None,
            }),
        };
        out.fact(&volume.spot, fact);
    }
    for (at, text) in &parts.tmpfs {
        let (to, options) = text.split_once(':').unwrap_or((text, ""));
        let options = MountOptions::read(options);
        let fact = VolumeFact {
            service: name.clone(),
            volume: None,
            to: to.as_bytes().to_vec(),
            access: if options.read_only() { Access::ReadOnly } else { Access::ReadWrite },
            source: Some("tmpfs".into()),
            filesystem: Some("tmpfs".into()),
            options: Some(options),
            label: None,
        };
        out.fact(at, Fact::Volume(fact));
    }
    for (at, port) in &parts.ports {
        let mut port = port.clone();
        port.service = name.clone();
        out.fact(at, Fact::Port(port));
    }
}

/// The variables that a service is given, each with its place: files in their order, then what it
/// says itself.
fn all_variables(
    project: &Project,
    parts: &Parts,
    out: &mut Collect,
) -> HashMap<String, (Spot, String)> {
    let mut all = HashMap::new();
    for (path, required, at) in &parts.env_files {
        let name = project.name_of(path);
        let bytes = match (project.around.read)(path) {
            Ok(bytes) => bytes,
            Err(why) => {
                if *required {
                    out.skip(at, format!("can't read {name}: {why}"));
                }
                continue;
            }
        };
        let text = String::from_utf8_lossy(&bytes);
        out.open_followed(&name, &text, "a file of variables");
        let (read, odd) = dotenv::read(&text);
        for line in odd {
            out.skip(&spot(&name, line), "it is no NAME=value");
        }
        for (key, line, value) in read {
            let at = spot(&name, line);
            if let Some(value) = value.or_else(|| project.given(&key, &at, out)) {
                all.insert(key, (at, value));
            }
        }
    }
    for (key, value, at) in &parts.environment {
        match value.clone().or_else(|| project.given(key, at, out)) {
            Some(value) => {
                all.insert(key.clone(), (at.clone(), value));
            }
            None => {
                all.remove(key);
            }
        }
    }
    all
}
