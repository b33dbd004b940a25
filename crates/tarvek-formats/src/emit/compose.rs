//! Containers of a host as a Compose file (Compose Specification).

use std::collections::BTreeMap;

use serde_json::{Map, Value, json};
use tarvek_core::layout::host::Host;
use tarvek_core::layout::mapping::{EngineMount, MapSource, Mapping};
use tarvek_core::layout::mount::MountSource;
use tarvek_core::layout::service::{Service, UserNs};
use tarvek_core::layout::site::Layout;
use tarvek_core::words::terms::Label;
use tarvek_core::words::terms::{Access, Protocol};

use super::piece::{
    Emitted, Piece, Source, Unsayable, address, container, further_groups, ids, port, say, text,
    without_secret,
};
use super::quote::yaml as string;

/// The containers of a host. Services that run straight on it have no part in it.
pub fn compose(layout: &Layout, host: &Host, file: &str) -> Emitted {
    let source = Source { file };
    let mut out = String::new();
    let mut volumes: BTreeMap<String, Value> = BTreeMap::new();
    let mut networks: BTreeMap<String, Value> = BTreeMap::new();
    for service in layout.services.iter().filter(|service| service.host == host.name) {
        let Some(map) = &service.map else { continue };
        if out.is_empty() {
            out += "services:\n";
        }
        out += &format!("  {}", source.of(service.origin, &format!("service {}", service.name)));
        out += &format!("  {}:\n", plain(container(service)?));
        let variable = service
            .name
            .raw()
            .to_ascii_uppercase()
            .replace(|c: char| !c.is_ascii_alphanumeric(), "_");
        let mut body = Map::new();
        // Which program it is, the layout does not say.
        body.insert(
            "image".into(),
            json!(format!("${{{variable}_IMAGE:?name the image of {}}}", service.name)),
        );
        body.insert("restart".into(), json!("unless-stopped"));
        if let Some((uid, gid)) = ids(service, host) {
            let gid = gid.map(|gid| format!(":{gid}")).unwrap_or_default();
            body.insert("user".into(), json!(format!("{uid}{gid}")));
        }
        let groups = further_groups(service, host);
        if !groups.is_empty() {
            let groups: Vec<String> = groups.iter().map(ToString::to_string).collect();
            body.insert("group_add".into(), json!(groups));
        }
        if let Some(umask) = service.umask {
            // Images that set their umask take it from here.
            body.insert("environment".into(), json!({ "UMASK": format!("{umask:03o}") }));
        }
        // The other namespaces are settings of the engine, not of a container.
        match &service.userns {
            Some(UserNs::Host) => drop(body.insert("userns_mode".into(), json!("host"))),
            Some(UserNs::KeepId(_)) => drop(body.insert("userns_mode".into(), json!("keep-id"))),
            _ => {}
        }
        if !service.ports.is_empty() {
            let ports: Vec<String> = service.ports.iter().map(|written| port(written)).collect();
            body.insert("ports".into(), json!(ports));
        }
        if let Some(network) = &service.network {
            body.insert("networks".into(), json!([network]));
            networks.insert(network.clone(), json!({}));
        }
        let mounts = map.iter().map(|map| volume(layout, service, map, &mut volumes));
        let mounts: Vec<Value> = mounts.collect::<Result<_, _>>()?;
        body.insert("volumes".into(), json!(mounts));
        yaml(&Value::Object(body), 4, &mut out);
    }
    if out.is_empty() {
        return Ok(Vec::new());
    }
    for (name, all) in [("volumes", volumes), ("networks", networks)] {
        if !all.is_empty() {
            out += &format!("{name}:\n");
            yaml(&Value::Object(all.into_iter().collect()), 2, &mut out);
        }
    }
    Ok(vec![Piece::new("compose.yaml", out)])
}

fn volume(
    layout: &Layout,
    service: &Service,
    map: &Mapping,
    volumes: &mut BTreeMap<String, Value>,
) -> Result<Value, Unsayable> {
    if let (MapSource::Folder(from), Some(label)) = (&map.source, map.label) {
        // Not every reader of Compose files knows labels in the long form; in the short form colons
        // part.
        let colon =
            [from.written.raw(), map.to.written.raw()].iter().any(|path| path.contains(':'));
        let fine = if colon {
            Err("a mapping with a label can't have a colon in its paths")
        } else {
            Ok(())
        };
        say(map.origin, from.written.raw(), fine)?;
        let mut options = vec![map.access.word()];
        options.push(if label == Label::Shared { "z" } else { "Z" });
        options.extend(map.propagation.as_deref());
        return Ok(json!(escaped(&format!(
            "{}:{}:{}",
            from.written.raw(),
            map.to.written.raw(),
            options.join(",")
        ))));
    }
    let mut mount = Map::new();
    let kind = if matches!(map.source, MapSource::Folder(_)) { "bind" } else { "volume" };
    mount.insert("type".into(), json!(kind));
    match &map.source {
        MapSource::Folder(from) => {
            mount.insert("source".into(), json!(escaped(from.written.raw())));
        }
        MapSource::Volume(name) => {
            mount.insert("source".into(), json!(name.raw()));
            volumes.entry(name.raw().to_owned()).or_insert_with(|| json!({}));
        }
        MapSource::Share(from) => {
            let own = || {
                let source = layout.source_name(&from.from).raw();
                let plain = source.replace(|c: char| !c.is_ascii_alphanumeric(), "-");
                format!("{}-{}", service.name.raw(), plain.trim_matches('-'))
            };
            let name = from.volume.as_ref().map_or_else(own, |name| name.raw().to_owned());
            mount.insert("source".into(), json!(name));
            without_secret(map.origin, layout.source_name(&from.from).raw())?;
            for option in from.options.iter() {
                without_secret(map.origin, option)?;
            }
            let made = engine_volume(layout, from, &name);
            volumes.insert(name, made);
        }
    }
    mount.insert("target".into(), json!(escaped(map.to.written.raw())));
    if map.access == Access::ReadOnly {
        mount.insert("read_only".into(), json!(true));
    }
    let mut bind = Map::new();
    bind.extend(map.propagation.iter().map(|how| ("propagation".to_owned(), json!(how))));
    if let Some(nested) = map.nested.filter(|_| map.access == Access::ReadOnly) {
        let how = if nested == Access::ReadOnly { "readonly" } else { "writable" };
        bind.insert("recursive".into(), json!(how));
    }
    if !bind.is_empty() {
        mount.insert("bind".into(), Value::Object(bind));
    }
    Ok(Value::Object(mount))
}

fn engine_volume(layout: &Layout, mount: &EngineMount, name: &str) -> Value {
    let below = mount.below.as_ref().map(|below| format!("/{}", below.raw().trim_matches('/')));
    let below = below.unwrap_or_default();
    let share = match &mount.from {
        MountSource::Share(name) => layout.share(name),
        MountSource::Literal(_) => None,
    };
    let (server, device) = match (share, mount.protocol, &mount.from) {
        (Some(share), Protocol::Smb, _) => {
            let server = address(layout, &share.host);
            (server.to_string(), format!("//{server}/{}{below}", share.name.raw()))
        }
        (Some(share), ..) => {
            (address(layout, &share.host).to_string(), format!(":{}{below}", text(&share.path)))
        }
        (None, Protocol::Smb, from) => {
            let source = layout.source_name(from).raw();
            let server = source.trim_start_matches('/').split('/').next().unwrap_or_default();
            (server.to_owned(), format!("{source}{below}"))
        }
        (None, _, from) => {
            let (server, path) =
                layout.source_name(from).raw().split_once(":/").unwrap_or_default();
            (server.to_owned(), format!(":/{path}{below}"))
        }
    };
    let mut all = vec![escaped(&format!("addr={server}"))];
    all.extend(mount.options.iter().map(escaped));
    if mount.protocol == Protocol::Smb {
        all.extend(mount.user.as_ref().map(|user| escaped(&format!("username={}", user.raw()))));
        // The kernel reads no file of credentials, and a password stands in none of ours.
        all.extend(mount.credentials.as_ref().map(|file| {
            let variable =
                name.to_ascii_uppercase().replace(|c: char| !c.is_ascii_alphanumeric(), "_");
            let file = text(file).replace(['}', '$'], "_");
            format!("password=${{{variable}_PASSWORD:?the one in {file}}}")
        }));
    }
    let kind = if mount.protocol == Protocol::Smb { "cifs" } else { "nfs" };
    let options = json!({ "type": kind, "o": all.join(","), "device": escaped(&device) });
    json!({ "driver": "local", "driver_opts": options })
}

/// A dollar sign would start a variable.
fn escaped(text: &str) -> String {
    text.replace('$', "$$")
}

/// A word that YAML takes for a string without quotes.
fn plain(name: &str) -> String {
    let bare = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-' | b'.');
    let starts = name.bytes().next().is_some_and(|b| b.is_ascii_alphabetic());
    // To some readers these are no words (YAML 1.1).
    let other = ["y", "n", "yes", "no", "on", "off", "true", "false", "null"];
    let starts = starts && !other.iter().any(|word| name.eq_ignore_ascii_case(word));
    if starts && name.bytes().all(bare) { name.to_owned() } else { string(name) }
}

/// Writes a value as YAML in block style; strings are double-quoted as JSON, which YAML 1.2 takes
/// as they are.
fn yaml(value: &Value, indent: usize, out: &mut String) {
    let pad = " ".repeat(indent);
    match value {
        Value::Object(map) => {
            for (key, value) in map {
                entry(&format!("{pad}{}:", plain(key)), value, indent + 2, out);
            }
        }
        Value::Array(items) => {
            for item in items {
                match item {
                    Value::Object(map) if !map.is_empty() => {
                        let mut inner = String::new();
                        yaml(item, indent + 2, &mut inner);
                        // The dash takes the place of the first indentation.
                        out.push_str(&format!("{pad}- {}", &inner[indent + 2..]));
                    }
                    item => entry(&format!("{pad}-"), item, indent + 2, out),
                }
            }
        }
        _ => {}
    }
}

fn entry(head: &str, value: &Value, indent: usize, out: &mut String) {
    match value {
        Value::Object(map) if map.is_empty() => out.push_str(&format!("{head} {{}}\n")),
        Value::Object(_) | Value::Array(_) => {
            out.push_str(&format!("{head}\n"));
            yaml(value, indent, out);
        }
        Value::String(text) => out.push_str(&format!("{head} {}\n", string(text))),
        value => out.push_str(&format!("{head} {value}\n")),
    }
}
