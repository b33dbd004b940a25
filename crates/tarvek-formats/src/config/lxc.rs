//! Configuration of system containers: `lxc.container.conf(5)`, and the `mpN:` lines that
//! hypervisors keep.

use tarvek_core::facts::configured::{Fact, IdMapFact, IdOf, MappingFact, ServiceFact, VolumeFact};
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::spot::Spot;
use tarvek_core::words::terms::Access;

use super::around::{Around, File};
use super::collect::{Collect, number, spot};
use crate::escape::unescape;

/// Files include each other no deeper.
const DEEPEST: usize = 16;

/// What is known of the container.
#[derive(Default)]
struct Container {
    name: Option<(Name, Spot)>,
    facts: Vec<(Spot, Fact)>,
    /// Whether ids are shifted as usual, where no ranges say how.
    unprivileged: Option<Spot>,
    maps: Vec<(Spot, IdMapFact)>,
}

/// Reads one container.
pub(super) fn read(file: &File, around: &Around, out: &mut Collect) {
    let mut container = Container::default();
    container.file(file, around, 0, out);
    let stem = || {
        let named = file.path.file_stem().map(|stem| stem.to_string_lossy().into_owned());
        let folder = file.path.parent().and_then(|folder| folder.file_name());
        match named.as_deref() {
            Some("config") | None => {
                folder.map(|f| f.to_string_lossy().into_owned()).unwrap_or_default()
            }
            Some(stem) => stem.to_owned(),
        }
    };
    let Container { name, facts, unprivileged, mut maps } = container;
    let (name, at) = name.unwrap_or_else(|| (stem().into(), spot(&file.name, 1)));
    if let Some(at) = unprivileged.filter(|_| maps.is_empty()) {
        for of in [IdOf::Uid, IdOf::Gid] {
            let range = IdMapFact {
                service: Name::default(),
                of,
                inside: 0,
                outside: 100_000,
                count: 65_536,
            };
            maps.push((at.clone(), range));
        }
    }
    let service = ServiceFact { name: name.clone(), is_host: true, ..ServiceFact::default() };
    out.fact(&at, Fact::Service(service));
    for (at, mut map) in maps {
        map.service = name.clone();
        out.fact(&at, Fact::IdMap(map));
    }
    for (at, mut fact) in facts {
        match &mut fact {
            Fact::Mapping(mapping) => mapping.service = name.clone(),
            Fact::Volume(volume) => volume.service = name.clone(),
            _ => {}
        }
        out.fact(&at, fact);
    }
}

impl Container {
    fn file(&mut self, file: &File, around: &Around, depth: usize, out: &mut Collect) {
        out.open(&file.name, &file.text, "a container's configuration");
        for (n, line) in file.text.lines().enumerate() {
            let at = spot(&file.name, number(n));
            let line = line.trim();
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            // What follows a heading is an earlier state, kept for going back.
            if line.starts_with('[') {
                break;
            }
            // Hypervisors write a colon behind every key, those of LXC included.
            let marks: &[char] = if line.starts_with("lxc.") { &['=', ':'] } else { &[':'] };
            let Some(cut) = line.find(marks) else {
                out.skip(&at, "it is no `key = value`");
                continue;
            };
            let (key, value) = (line[..cut].trim(), line[cut + 1..].trim());
            self.setting(key, value, &at, around, depth, out);
        }
    }

    fn setting(
        &mut self,
        key: &str,
        value: &str,
        at: &Spot,
        around: &Around,
        depth: usize,
        out: &mut Collect,
    ) {
        match key {
            "lxc.uts.name" | "lxc.utsname" | "hostname" => {
                self.name = Some((value.into(), at.clone()));
            }
            "lxc.include" => {
                if depth >= DEEPEST {
                    return out.skip(at, "files include each other without end");
                }
                match (around.read)(std::path::Path::new(value)) {
                    Ok(bytes) => {
                        let other = File::new(value.into(), value.into(), bytes);
                        out.open_followed(&other.name, &other.text, "a container's configuration");
                        self.file(&other, around, depth + 1, out);
                    }
                    Err(why) => out.skip(at, format!("can't read {value}: {why}")),
                }
            }
            "lxc.idmap" | "lxc.id_map" => match range(value) {
                Some(maps) => self.maps.extend(maps.into_iter().map(|map| (at.clone(), map))),
                None => out.skip(at, "a range of ids is `u|g|b INSIDE OUTSIDE COUNT`"),
            },
            "lxc.mount.entry" => match entry(value) {
                Ok(Some(fact)) => self.facts.push((at.clone(), fact)),
                Ok(None) => {}
                Err(why) => out.skip(at, why),
            },
            "unprivileged" if value == "1" => self.unprivileged = Some(at.clone()),
            _ => {
                let point = key
                    .strip_prefix("mp")
                    .filter(|n| !n.is_empty() && n.bytes().all(|b| b.is_ascii_digit()));
                if point.is_some() {
                    match mount_point(value) {
                        Ok(fact) => self.facts.push((at.clone(), fact)),
                        Err(why) => out.skip(at, why),
                    }
                }
            }
        }
    }
}

/// `u 0 100000 65536`; `b` stands for users and groups.
fn range(value: &str) -> Option<Vec<IdMapFact>> {
    let fields: Vec<&str> = value.split_whitespace().collect();
    let [of, inside, outside, count] = fields[..] else { return None };
    let both: &[IdOf] = match of {
        "u" => &[IdOf::Uid],
        "g" => &[IdOf::Gid],
        "b" => &[IdOf::Uid, IdOf::Gid],
        _ => return None,
    };
    let (inside, outside, count) =
        (inside.parse().ok()?, outside.parse().ok()?, count.parse().ok()?);
    let range = |of: &IdOf| IdMapFact { service: Name::default(), of: *of, inside, outside, count };
    Some(both.iter().map(range).collect())
}

/// A line as in `fstab(5)`, whose mount point is below the container's root; `None` where it maps
/// no folder of the host.
fn entry(value: &str) -> Result<Option<Fact>, String> {
    let fields: Vec<&str> = value.split_whitespace().collect();
    let [source, at, kind, options, ..] = fields[..] else {
        return Err("a mount entry has a source, a place, a type and options".into());
    };
    let options = MountOptions::read(options);
    let mut to = unescape(at.as_bytes());
    if !to.starts_with(b"/") {
        to.insert(0, b'/');
    }
    let bind = options.has("bind") || options.has("rbind");
    if !bind {
        let fact = VolumeFact {
            service: Name::default(),
            volume: None,
            to,
            access: options.access(),
            source: Some(String::from_utf8_lossy(&unescape(source.as_bytes())).as_ref().into()),
            filesystem: Some(kind.into()),
            options: Some(options),
            label: None,
        };
        let pseudo = ["proc", "sysfs", "cgroup", "cgroup2", "mqueue", "devpts"];
        return Ok((!pseudo.contains(&kind)).then_some(Fact::Volume(fact)));
    }
    let propagation = ["rshared", "shared", "rslave", "slave", "rprivate", "private"]
        .iter()
        .find(|word| options.has(word))
        .map(|word| (*word).to_owned());
    Ok(Some(Fact::Mapping(MappingFact {
        service: Name::default(),
        from: unescape(source.as_bytes()),
        to,
        access: options.access(),
        label: None,
        propagation,
        idmap: options.has("idmap") || options.value("idmap").is_some(),
    })))
}

/// `/loft/media,mp=/media,ro=1`, or a volume in place of the folder.
fn mount_point(value: &str) -> Result<Fact, String> {
    let mut parts = value.split(',');
    let source = parts.next().unwrap_or_default();
    let source = source.strip_prefix("volume=").unwrap_or(source);
    let (mut to, mut access) = (None, Access::ReadWrite);
    for part in parts {
        match part.split_once('=') {
            Some(("mp", path)) => to = Some(path),
            Some(("ro", "1")) => access = Access::ReadOnly,
            _ => {}
        }
    }
    let to = to.ok_or("a mount point has an mp=")?;
    let mut to = to.as_bytes().to_vec();
    if !to.starts_with(b"/") {
        to.insert(0, b'/');
    }
    let service = Name::default();
    Ok(match source.starts_with('/') {
        true => Fact::Mapping(MappingFact {
            service,
            from: source.as_bytes().to_vec(),
            to,
            access,
            label: None,
            propagation: None,
            idmap: false,
        }),
        false => Fact::Volume(VolumeFact {
            service,
            volume: Some(source.into()),
            to,
            access,
            source: None,
            filesystem: None,
            options: None,
            label: None,
        }),
    })
}
