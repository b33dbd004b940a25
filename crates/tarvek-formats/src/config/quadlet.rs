//! Units that Podman makes services of (`podman-systemd.unit(5)`).

use std::collections::HashMap;
use std::path::Path;

use tarvek_core::facts::configured::{Fact, MappingFact, ServiceFact, VolumeFact};
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::secret;
use tarvek_core::words::spot::Spot;
use tarvek_core::words::terms::{Access, id};

use super::around::{Around, File};
use super::collect::{Collect, spot};
use super::compose::ports;
use super::compose::volumes::{Modes, is_path, short};
use super::dotenv;
use super::ini::{Setting, Unit, words};

/// What a `.volume` unit makes.
#[derive(Default)]
struct Volume {
    source: Option<Name>,
    filesystem: Option<Name>,
    options: Option<MountOptions>,
}

/// Reads the units of a host together, since containers name volumes and pods of others.
pub(super) fn read(files: &[File], around: &Around, out: &mut Collect) {
    let mut units = Vec::new();
    for file in files {
        out.open(&file.name, &file.text, "a unit");
        units.push((file, Unit::read(&file.name, &file.text, out)));
    }
    let file_name = |file: &File| {
        file.path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default()
    };
    let mut volumes = HashMap::new();
    for (file, unit) in units.iter().filter(|(_, unit)| unit.has_section("Volume")) {
        let text = |key: &str| unit.last("Volume", key).map(|s| s.value.clone());
        let volume = Volume {
            source: text("Device").map(|device| secret::hide(&device).into()),
            filesystem: text("Type").map(Name::from),
            options: text("Options").map(|options| MountOptions::read(&options)),
        };
        volumes.insert(file_name(file), volume);
    }
    let pods: HashMap<String, &Unit> = units
        .iter()
        .filter(|(_, u)| u.has_section("Pod"))
        .map(|(f, u)| (file_name(f), u))
        .collect();
    for (file, unit) in units.iter().filter(|(_, unit)| unit.has_section("Container")) {
        let pod = unit.last("Container", "Pod").and_then(|pod| pods.get(&pod.value));
        container(file, unit, pod.copied(), &volumes, around, out);
    }
}

fn container(
    file: &File,
    unit: &Unit,
    pod: Option<&Unit>,
    volumes: &HashMap<String, Volume>,
    around: &Around,
    out: &mut Collect,
) {
    let stem = file.path.file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default();
    let name = Name::from(stem);
    let last = |key: &str| unit.last("Container", key);
    let variables = variables(file, unit, around, out);
    let number = |key: &str| id(variables.get(key)?.trim());
    let mut fact = ServiceFact { name: name.clone(), ..ServiceFact::default() };
    match last("User") {
        Some(user) => {
            let group = last("Group").map(|group| group.value.as_str());
            let (uid, gid) = user
                .value
                .split_once(':')
                .map_or((user.value.as_str(), group), |(u, g)| (u, Some(g)));
            (fact.uid, fact.gid) = (id(uid), gid.and_then(id));
            let whole = gid.map_or(uid.to_owned(), |gid| format!("{uid}:{gid}"));
            fact.user = Some(whole.into());
        }
        None => (fact.uid, fact.gid) = (number("PUID"), number("PGID")),
    }
    fact.umask = variables.get("UMASK").and_then(|umask| u16::from_str_radix(umask.trim(), 8).ok());
    fact.groups =
        unit.all("Container", "GroupAdd").iter().map(|s| s.value.as_str().into()).collect();
    let mounts = unit.all("Unit", "RequiresMountsFor");
    let mounts = mounts.iter().flat_map(|setting| words(&setting.value));
    fact.waits_for = mounts.map(|path| path.as_bytes().to_vec()).collect();
    fact.image = last("Image").map(|image| image.value.as_str().into());
    fact.network = last("Network").map(|network| network.value.as_str().into());
    fact.userns =
        last("UserNS").map(|userns| userns.value.as_str().into()).or_else(|| ranges(unit));
    let at = last("Image").map_or_else(|| spot(&file.name, 1), |image| image.spot.clone());
    out.fact(&at, Fact::Service(fact));
    let of_pod = |key: &str| pod.map(|pod| pod.all("Pod", key)).unwrap_or_default();
    for setting in unit.all("Container", "Volume").into_iter().chain(of_pod("Volume")) {
        volume(file, &name, setting, volumes, around, out);
    }
    for setting in unit.all("Container", "Mount") {
        mount(file, &name, setting, volumes, around, out);
    }
    for setting in unit.all("Container", "Tmpfs") {
        let (to, options) = setting.value.split_once(':').unwrap_or((&setting.value, ""));
        let options = MountOptions::read(options);
        let fact = VolumeFact {
            service: name.clone(),
            volume: None,
            to: to.as_bytes().to_vec(),
            access: options.access(),
            source: Some("tmpfs".into()),
            filesystem: Some("tmpfs".into()),
            options: Some(options),
            label: None,
        };
        out.fact(&setting.spot, Fact::Volume(fact));
    }
    for setting in unit.all("Container", "PublishPort").into_iter().chain(of_pod("PublishPort")) {
        match ports::short(&name, &setting.value) {
            Ok(port) => out.fact(&setting.spot, Fact::Port(port)),
            Err(why) => out.skip(&setting.spot, why),
        }
    }
    for setting in unit.all("Container", "PodmanArgs") {
        let decides =
            ["--volume", "-v", "--mount", "--user", "--userns", "--uidmap", "--publish", "-p"];
        if words(&setting.value)
            .iter()
            .any(|word| decides.iter().any(|d| word == d || word.starts_with(&format!("{d}="))))
        {
            out.skip(&setting.spot, "what is given to Podman by hand is not looked at");
        }
    }
}

/// `UIDMap` and `GIDMap`, as the layout writes ranges.
fn ranges(unit: &Unit) -> Option<Name> {
    let list = |key: &str, mark: &str| -> Vec<String> {
        let all = unit.all("Container", key);
        all.iter().map(|s| format!("{mark}{}", s.value)).collect()
    };
    let (uids, gids) = (list("UIDMap", "u:"), list("GIDMap", "g:"));
    let gids = if gids.is_empty() {
        uids.iter().map(|r| r.replacen("u:", "g:", 1)).collect()
    } else {
        gids
    };
    (!uids.is_empty()).then(|| [uids, gids].concat().join(",").into())
}

fn variables(
    file: &File,
    unit: &Unit,
    around: &Around,
    out: &mut Collect,
) -> HashMap<String, String> {
    let mut variables = HashMap::new();
    for setting in unit.all("Container", "EnvironmentFile") {
        let path = from(file, setting.value.trim_start_matches('-'), around);
        let optional = setting.value.starts_with('-');
        match (around.read)(Path::new(&path)) {
            Ok(bytes) => {
                let (read, odd) = dotenv::read(&String::from_utf8_lossy(&bytes));
                if !odd.is_empty() {
                    // Nobody named that file: what its lines say is not shown.
                    let lines = odd.len();
                    out.skip(
                        &setting.spot,
                        format!("of {path} {lines} of the lines are no NAME=value"),
                    );
                }
                variables
                    .extend(read.into_iter().filter_map(|(name, _, value)| Some((name, value?))));
            }
            Err(_) if optional => {}
            Err(why) => out.skip(&setting.spot, format!("can't read {path}: {why}")),
        }
    }
    for setting in unit.all("Container", "Environment") {
        for word in words(&setting.value) {
            if let Some((name, value)) = word.split_once('=') {
                variables.insert(name.to_owned(), value.to_owned());
            }
        }
    }
    variables
}

/// A path that may start where the unit lies, or at home (`%h`).
fn from(file: &File, path: &str, around: &Around) -> String {
    let home = || (around.variable)("HOME").unwrap_or_default();
    let path = path.replace("%h", &home()).replace("%%", "%");
    super::around::absolute(file.path.parent().unwrap_or(Path::new("/")), &path, around)
}

fn volume(
    file: &File,
    service: &Name,
    setting: &Setting,
    volumes: &HashMap<String, Volume>,
    around: &Around,
    out: &mut Collect,
) {
    match short(&setting.value) {
        Ok(short) => {
            let to = short.to.to_owned();
            attach(
                file,
                service,
                short.source,
                to,
                short.modes,
                &setting.spot,
                volumes,
                around,
                out,
            );
        }
        Err(why) => out.skip(&setting.spot, why),
    }
}

#[expect(clippy::too_many_arguments, reason = "one thing with all its parts")]
fn attach(
    file: &File,
    service: &Name,
    source: Option<&str>,
    to: String,
    modes: Modes,
    at: &Spot,
    volumes: &HashMap<String, Volume>,
    around: &Around,
    out: &mut Collect,
) {
    let to = to.into_bytes();
    match source {
        Some(source) if is_path(source) || source.starts_with('%') => {
            let fact = MappingFact {
                service: service.clone(),
                from: from(file, source, around).into_bytes(),
                to,
                access: modes.access,
                label: modes.label,
                propagation: modes.propagation,
                idmap: modes.idmap,
            };
            out.fact(at, Fact::Mapping(fact));
        }
        source => {
            let unit = source.and_then(|source| volumes.get(source));
            if source.is_some_and(|source| source.ends_with(".volume")) && unit.is_none() {
                out.skip(at, "there is no such unit of a volume");
            }
            let fact = VolumeFact {
                service: service.clone(),
                volume: source
                    .map(|source| source.strip_suffix(".volume").unwrap_or(source).into()),
                to,
                access: modes.access,
                source: unit.and_then(|unit| unit.source.clone()),
                filesystem: unit.and_then(|unit| unit.filesystem.clone()),
                options: unit.and_then(|unit| unit.options.clone()),
                label: modes.label,
            };
            out.fact(at, Fact::Volume(fact));
        }
    }
}

/// `type=bind,source=/a,target=/b,ro`.
fn mount(
    file: &File,
    service: &Name,
    setting: &Setting,
    volumes: &HashMap<String, Volume>,
    around: &Around,
    out: &mut Collect,
) {
    let (mut kind, mut source, mut to) = ("volume", None, None);
    let mut modes = Modes::default();
    for part in setting.value.split(',') {
        let (key, value) = part.split_once('=').unwrap_or((part, "true"));
        match key.trim() {
            "type" => kind = value,
            "source" | "src" => source = Some(value),
            "target" | "destination" | "dst" => to = Some(value),
            "ro" | "readonly" if value == "true" => modes.access = Access::ReadOnly,
            "bind-propagation" => modes.propagation = Some(value.to_owned()),
            "relabel" => modes.label = super::around::label(value),
            "idmap" => modes.idmap = true,
            _ => {}
        }
    }
    let Some(to) = to else { return out.skip(&setting.spot, "a mount has a target") };
    match kind {
        "bind" | "volume" => {
            attach(
                file,
                service,
                source,
                to.to_owned(),
                modes,
                &setting.spot,
                volumes,
                around,
                out,
            );
        }
        "tmpfs" | "ramfs" => {
            let fact = VolumeFact {
                service: service.clone(),
                volume: None,
                to: to.as_bytes().to_vec(),
                access: modes.access,
                source: Some("tmpfs".into()),
                filesystem: Some("tmpfs".into()),
                options: None,
                label: None,
            };
            out.fact(&setting.spot, Fact::Volume(fact));
        }
        kind => out.skip(&setting.spot, format!("a mount of the type {kind:?} is not known")),
    }
}
