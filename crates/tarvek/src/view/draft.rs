//! A drafted layout as a picture: hosts, datasets and folders with their owners and rights, and the
//! reasons beside it.

use std::collections::{BTreeMap, BTreeSet};

use tarvek_core::draft::{Draft, Reason};
use tarvek_core::layout::folder::{Folder, Right};
use tarvek_core::layout::host::Host;
use tarvek_core::layout::mapping::MapSource;
use tarvek_core::layout::service::{RunAs, Service, ServiceRole};
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::shown;
use unicode_width::UnicodeWidthStr;

use super::screen::{Screen, Volume};
use super::style::{dim, strong};
use super::wrap::wrap;

pub(crate) fn text(draft: &Draft, screen: &Screen) -> String {
    let mut out = format!("{}\n", strong(&draft.layout.site));
    for host in &draft.layout.hosts {
        out += &self::host(&draft.layout, host, screen.width());
    }
    if screen.volume() == Volume::Quiet {
        return out;
    }
    out += &format!("\n{}\n", strong("Why"));
    let mut last = "";
    for Reason { about, why } in &draft.reasons {
        if about != last {
            out += &format!("  {about}\n");
            last = about;
        }
        out += &format!("    · {}\n", wrap(why, &[], screen.width() - 6, "      "));
    }
    out
}

/// A line of the picture: what hangs where, and what stands beside it.
struct Line {
    tree: String,
    beside: Vec<String>,
}

fn host(layout: &Layout, host: &Host, width: usize) -> String {
    let mut lines = Vec::new();
    folders(layout, host, &mut lines);
    for mount in layout.mounts.iter().filter(|mount| mount.host == host.name) {
        let at = mount.at.to_string();
        let at = if at.ends_with(':') { at.trim_start_matches('/').to_owned() } else { at };
        lines.push(Line {
            tree: at,
            beside: vec![
                format!("{} from {}", mount.protocol.word(), layout.source(&mount.from)),
                mount.options.access().word().to_owned(),
                mount.user.iter().map(|user| format!("as {user}")).collect(),
            ],
        });
    }
    for service in layout.services.iter().filter(|service| service.host == host.name) {
        lines.push(Line { tree: service.name.to_string(), beside: service_words(service) });
    }
    let roles: Vec<&str> = host.roles.iter().map(|role| role.word()).collect();
    let column = lines.iter().map(|line| line.tree.width()).max().unwrap_or(0) + 2;
    let mut out = format!("\n{}  {}\n", strong(&host.name), dim(roles.join(", ")));
    for Line { tree, beside } in lines {
        let beside: Vec<String> = beside.into_iter().filter(|part| !part.is_empty()).collect();
        let beside = beside.join("  ");
        let indent = " ".repeat(column + 2);
        let beside = wrap(&beside, &[], width.saturating_sub(column + 2).max(20), &indent);
        let padding = " ".repeat(column - tree.width());
        for line in format!("  {tree}{padding}{beside}").lines() {
            out += line.trim_end();
            out.push('\n');
        }
    }
    out
}

fn service_words(service: &Service) -> Vec<String> {
    let role = |role: &ServiceRole| match role {
        ServiceRole::Serve => "serves",
        ServiceRole::Fetch => "fetches",
        ServiceRole::Sort => "sorts",
    };
    let roles: Vec<&str> = service.roles.iter().map(role).collect();
    let runs_as = match &service.runs_as {
        RunAs::Numbers(uid, Some(gid)) => format!("as {uid}:{gid}"),
        RunAs::Numbers(uid, None) => format!("as {uid}"),
        RunAs::Account(name) => format!("as {name}"),
        RunAs::Unset => String::new(),
    };
    let mut words = vec![roles.join(", "), runs_as];
    for map in service.map.iter().flatten() {
        if let MapSource::Folder(from) = &map.source {
            words.push(format!("{} → {} {}", from.written, map.to.written, map.access.word()));
        }
    }
    words
}

/// Datasets and folders of a host as a tree by their paths.
fn folders(layout: &Layout, host: &Host, lines: &mut Vec<Line>) {
    let mut places: BTreeSet<AbsPath> =
        host.datasets.iter().map(|dataset| dataset.at.clone()).collect();
    let declared = layout.folders.iter().filter(|folder| folder.host == host.name);
    places.extend(declared.map(|folder| folder.path.clone()));
    let above = |place: &AbsPath| {
        std::iter::successors(place.parent(), AbsPath::parent).find(|above| places.contains(above))
    };
    let mut inside: BTreeMap<Option<AbsPath>, Vec<&AbsPath>> = BTreeMap::new();
    for place in &places {
        inside.entry(above(place)).or_default().push(place);
    }
    for top in inside.get(&None).into_iter().flatten() {
        place(layout, host, top, &top.to_string(), lines);
        below(layout, host, top, &inside, "", lines);
    }
}

fn below(
    layout: &Layout,
    host: &Host,
    top: &AbsPath,
    inside: &BTreeMap<Option<AbsPath>, Vec<&AbsPath>>,
    stem: &str,
    lines: &mut Vec<Line>,
) {
    let inner = inside.get(&Some(top.clone())).map_or(&[][..], Vec::as_slice);
    for (n, path) in inner.iter().enumerate() {
        let last = n + 1 == inner.len();
        let name = shown(path.below(top).unwrap_or_default());
        let name = name.trim_start_matches('/');
        place(
            layout,
            host,
            path,
            &format!("{stem}{}{name}", if last { "└─ " } else { "├─ " }),
            lines,
        );
        let stem = format!("{stem}{}", if last { "   " } else { "│  " });
        below(layout, host, path, inside, &stem, lines);
    }
}

fn place(layout: &Layout, host: &Host, path: &AbsPath, tree: &str, lines: &mut Vec<Line>) {
    let mut beside = Vec::new();
    let folder = layout.folders.iter().find(|f| f.host == host.name && f.path == *path);
    if let Some(folder) = folder {
        let owner = folder.owner.as_ref().map_or("?".to_owned(), Name::to_string);
        let group = folder.group.as_ref().map_or(owner.clone(), Name::to_string);
        let mode = folder.mode.map_or_else(String::new, |mode| format!("{mode:04o}"));
        beside.push(format!("{owner}:{group} {mode}"));
        beside.push(rights(folder));
    }
    for dataset in host.datasets.iter().filter(|dataset| dataset.at == *path) {
        let kind = dataset.filesystem.as_ref().map_or("filesystem".to_owned(), Name::to_string);
        beside.push(format!("[{kind} {}]", dataset.name));
    }
    for share in layout.shares.iter().filter(|s| s.host == host.name && s.path == *path) {
        let mut over = Vec::new();
        over.extend(share.nfs.iter().map(|e| format!("nfs {} to {}", e.access.word(), e.clients)));
        over.extend(share.smb.iter().map(|_| "smb".to_owned()));
        beside.push(format!("[share {}: {}]", share.name, over.join(", ")));
    }
    lines.push(Line { tree: tree.to_owned(), beside });
}

fn rights(folder: &Folder) -> String {
    let mut words = Vec::new();
    for right in [Right::Change, Right::Add, Right::Read, Right::None] {
        let who: Vec<String> = folder
            .rights
            .iter()
            .filter(|(_, r)| *r == right)
            .map(|(who, _)| who.to_string())
            .collect();
        if !who.is_empty() {
            words.push(format!("{} {}", who.join(" "), right.word()));
        }
    }
    words.join("; ")
}
