//! Containers of a host as units that Podman makes systemd services of (`podman-systemd.unit(5)`).

use tarvek_core::layout::host::Host;
use tarvek_core::layout::mapping::MapSource;
use tarvek_core::layout::service::{Service, UserNs};
use tarvek_core::layout::site::Layout;
use tarvek_core::words::terms::Access;
use tarvek_core::words::terms::Label;

use super::piece::{Emitted, Piece, Source, Unsayable, container, further_groups, ids, port, say};
use super::quote::{comment, unit_path, volume_part};

/// A `.container` unit for each container of a host.
pub fn quadlet(layout: &Layout, host: &Host, file: &str) -> Emitted {
    let source = Source { file };
    let containers = layout.services.iter().filter(|s| s.host == host.name && s.map.is_some());
    containers
        .map(|service| {
            let name = format!("{}.container", container(service)?);
            Ok(Piece::new(name, unit(layout, service, host, &source)?))
        })
        .collect()
}

fn unit(
    layout: &Layout,
    service: &Service,
    host: &Host,
    source: &Source,
) -> Result<String, Unsayable> {
    let mut out = source.of(service.origin, &format!("service {}", service.name));
    out += &format!("[Unit]\nDescription={}\n", service.name.raw());
    // The container starts after what it maps is mounted, and not without it.
    for map in service.map.iter().flatten() {
        if let MapSource::Folder(from) = &map.source {
            let folder = from.written.raw();
            out += &format!("RequiresMountsFor={}\n", say(map.origin, folder, unit_path(folder))?);
        }
    }
    out += "\n[Container]\n# Which program it is, the layout does not say: write its image here.\n";
    out += &format!("Image=localhost/{}\n", service.name.raw());
    if let Some((uid, gid)) = ids(service, host) {
        out += &format!("User={uid}\n");
        out += &gid.map(|gid| format!("Group={gid}\n")).unwrap_or_default();
    }
    for gid in further_groups(service, host) {
        out += &format!("GroupAdd={gid}\n");
    }
    if let Some(umask) = service.umask {
        out += &format!("Environment=UMASK={umask:03o}\n");
    }
    match &service.userns {
        None => {}
        Some(UserNs::Host) => out += "UserNS=host\n",
        Some(UserNs::KeepId(_)) => out += "UserNS=keep-id\n",
        Some(UserNs::Rootless(account)) => {
            let words =
                format!("A unit of the user {account}: ~{account}/.config/containers/systemd.");
            out += &format!("# {}\n", comment(&words));
        }
        Some(UserNs::Remap(account)) => {
            out += &format!("SubUIDMap={0}\nSubGIDMap={0}\n", account.raw());
        }
        Some(UserNs::Ranges(map)) => {
            for (key, ranges) in [("UIDMap", &map.uids), ("GIDMap", &map.gids)] {
                for range in ranges {
                    out += &format!("{key}={}:{}:{}\n", range.inside, range.outside, range.count);
                }
            }
        }
    }
    for map in service.map.iter().flatten() {
        let from = match &map.source {
            MapSource::Folder(from) => {
                say(map.origin, from.written.raw(), volume_part(from.written.raw()))?
            }
            MapSource::Volume(name) => name.raw().to_owned(),
            // The engine can't mount a share by itself here: the host does, and the folder is
            // mapped.
            MapSource::Share(mount) => {
                let source = layout.source_name(&mount.from);
                let words = format!("Mount {source} on the host, and map its folder here.");
                out += &format!("# {}\n", comment(&words));
                continue;
            }
        };
        let mut options = vec![map.access.word().to_owned()];
        options.extend(
            map.label.map(|label| if label == Label::Shared { "z" } else { "Z" }.to_owned()),
        );
        options.extend(map.propagation.clone());
        options.extend(map.idmap.then(|| "idmap".to_owned()));
        if map.access == Access::ReadWrite {
            options.remove(0);
        }
        let options =
            if options.is_empty() { String::new() } else { format!(":{}", options.join(",")) };
        let to = map.to.written.raw();
        out += &format!("Volume={from}:{}{options}\n", say(map.origin, to, volume_part(to))?);
    }
    for written in &service.ports {
        out += &format!("PublishPort={}\n", port(written));
    }
    out += &service.network.as_ref().map(|n| format!("Network={n}\n")).unwrap_or_default();
    Ok(out + "\n[Service]\nRestart=always\n\n[Install]\nWantedBy=default.target\n")
}
