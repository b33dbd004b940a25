//! Mounts of a host: `fstab(5)` lines and `systemd.mount(5)` units.

use tarvek_core::layout::host::Host;
use tarvek_core::layout::mount::{Mount, MountSource};
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::terms::{Os, Protocol};

use super::piece::{
    Emitted, Piece, Source, Unsayable, nfs_source, say, smb_source, text, without_secret,
};
use super::quote::{self, comment, unit_value};

/// What both forms need of a mount.
struct Attached {
    source: String,
    filesystem: String,
    options: Vec<String>,
}

/// The mounts of a host that mounts as Linux does; what others type stands in `clients`.
fn mounts<'a>(layout: &'a Layout, host: &'a Host) -> impl Iterator<Item = &'a Mount> {
    layout.mounts.iter().filter(|mount| host.os == Os::Linux && mount.host == host.name)
}

fn attached(layout: &Layout, host: &Host, mount: &Mount) -> Result<Attached, Unsayable> {
    let share = match &mount.from {
        MountSource::Share(name) => layout.share(name),
        MountSource::Literal(_) => None,
    };
    let source = match (&mount.from, share, mount.protocol) {
        (_, Some(share), Protocol::Smb) => smb_source(layout, share),
        (_, Some(share), _) => nfs_source(layout, share),
        (MountSource::Literal(source) | MountSource::Share(source), ..) => source.raw().to_owned(),
    };
    without_secret(mount.origin, &source)?;
    let filesystem = match mount.protocol {
        Protocol::Nfs => "nfs".to_owned(),
        Protocol::Smb => "cifs".to_owned(),
        Protocol::Bind => "none".to_owned(),
        Protocol::Disk => {
            let dataset = host.datasets.iter().find(|dataset| dataset.at == mount.at);
            let declared = dataset.and_then(|dataset| dataset.filesystem.as_ref());
            declared.map_or("auto", Name::raw).to_owned()
        }
    };
    let mut options: Vec<String> = mount.options.iter().map(str::to_owned).collect();
    for option in &options {
        without_secret(mount.origin, option)?;
    }
    if mount.protocol == Protocol::Bind && !options.iter().any(|o| o == "bind" || o == "rbind") {
        options.insert(0, "bind".into());
    }
    if let Some(file) = &mount.credentials {
        options.push(format!("credentials={}", text(file)));
    } else if let (Protocol::Smb, Some(user)) = (mount.protocol, &mount.user) {
        options.push(format!("username={}", user.raw()));
    }
    // A server that is a guest of this host is up after it: nobody may wait for the mount while
    // this host starts.
    let guest = share.and_then(|share| layout.host(&share.host)?.inside.as_ref());
    if mount.protocol.is_network() && guest == Some(&host.name) {
        for wanted in ["nofail", "x-systemd.automount"] {
            if !mount.options.has(wanted) {
                options.push(wanted.to_owned());
            }
        }
    }
    Ok(Attached { source, filesystem, options })
}

/// Lines for the host's fstab, and placeholders for the credentials that they name.
pub fn fstab(layout: &Layout, host: &Host, file: &str) -> Emitted {
    let source = Source { file };
    let mut lines = String::new();
    for mount in mounts(layout, host) {
        let from = Name::from(attached(layout, host, mount)?.source);
        lines += &source.of(mount.origin, &format!("{from} at {}", mount.at));
        lines += &fstab_line(layout, host, mount)?;
    }
    if lines.is_empty() {
        return Ok(Vec::new());
    }
    let mut pieces = vec![Piece::new("fstab", lines)];
    pieces.extend(credentials(layout, host));
    Ok(pieces)
}

/// The line of one mount.
pub(super) fn fstab_line(layout: &Layout, host: &Host, mount: &Mount) -> Result<String, Unsayable> {
    let at = attached(layout, host, mount)?;
    let options = if at.options.is_empty() { "defaults".to_owned() } else { at.options.join(",") };
    // Only local filesystems are checked, and after the root.
    let pass = if mount.protocol == Protocol::Disk && at.filesystem != "btrfs" { 2 } else { 0 };
    Ok(format!(
        "{} {} {} {} 0 {pass}\n",
        quote::fstab(&at.source),
        quote::fstab(&text(&mount.at)),
        at.filesystem,
        quote::fstab(&options)
    ))
}

/// Placeholders for the files that hold user and password of an SMB mount (`mount.cifs(8)`).
fn credentials(layout: &Layout, host: &Host) -> Vec<Piece> {
    let mut pieces: Vec<Piece> = Vec::new();
    for mount in mounts(layout, host) {
        let Some(file) = &mount.credentials else { continue };
        let name = text(file).trim_start_matches('/').to_owned();
        if pieces.iter().any(|piece| piece.name == name) {
            continue;
        }
        let user = mount.user.as_ref().map_or("", Name::raw);
        pieces.push(Piece {
            name,
            text: format!(
                "# {}\nusername={user}\npassword=\n",
                comment(&format!(
                    "Goes to {file}. Owner root, mode 0600. Write the password after the equals \
                     sign; nothing else may know it."
                ))
            ),
            mode: 0o600,
        });
    }
    pieces
}

/// A mount unit for each mount, and an automount unit for each network mount.
pub fn systemd(layout: &Layout, host: &Host, file: &str) -> Emitted {
    let source = Source { file };
    let mut pieces = Vec::new();
    for mount in mounts(layout, host) {
        let at = attached(layout, host, mount)?;
        let network = mount.protocol.is_network();
        let point = text(&mount.at);
        let name = unit_name(&point);
        // With its ending, and the part that systemd adds while it writes one.
        let fits =
            if name.len() <= 200 { Ok(()) } else { Err("its unit would have too long a name") };
        say(mount.origin, &point, fits)?;
        let what = say(mount.origin, &at.source, unit_value(&at.source))?;
        let at_point = say(mount.origin, &point, unit_value(&point))?;
        let comment =
            source.of(mount.origin, &format!("{} at {}", Name::from(&*at.source), mount.at));
        let target = if network { "remote-fs.target" } else { "local-fs.target" };
        // What fstab's reader makes of these stands in the unit itself.
        let options: Vec<&str> = at
            .options
            .iter()
            .map(String::as_str)
            .filter(|option| {
                !matches!(*option, "nofail" | "_netdev" | "auto" | "noauto" | "x-systemd.automount")
            })
            .collect();
        let mut unit = format!("{comment}[Unit]\nDescription={what} at {at_point}\n");
        if network {
            unit += "Wants=network-online.target\nAfter=network-online.target\n";
        }
        unit += &format!("\n[Mount]\nWhat={what}\nWhere={at_point}\nType={}\n", at.filesystem);
        if !options.is_empty() {
            let options = options.join(",");
            unit += &format!("Options={}\n", say(mount.origin, &options, unit_value(&options))?);
        }
        unit += "TimeoutSec=30\n";
        if !network {
            unit += &format!("\n[Install]\nWantedBy={target}\n");
        }
        pieces.push(Piece::new(format!("{name}.mount"), unit));
        if network {
            // A server that is off at boot then delays whoever looks, and nobody else.
            pieces.push(Piece::new(
                format!("{name}.automount"),
                format!(
                    "{comment}[Unit]\nDescription={what} on first use\n\n[Automount]\n\
                     Where={at_point}\n\n[Install]\nWantedBy={target}\n"
                ),
            ));
        }
    }
    if !pieces.is_empty() {
        pieces.extend(credentials(layout, host));
    }
    Ok(pieces)
}

/// A path as a unit's name (`systemd.unit(5)`, "string escaping for inclusion in unit names").
fn unit_name(path: &str) -> String {
    let parts: Vec<&str> = path.split('/').filter(|part| !part.is_empty()).collect();
    if parts.is_empty() {
        return "-".into();
    }
    let mut name = String::new();
    for (n, byte) in parts.join("/").bytes().enumerate() {
        match byte {
            b'/' => name.push('-'),
            b'.' if n == 0 => name += "\\x2e",
            b if b.is_ascii_alphanumeric() || matches!(b, b':' | b'_' | b'.') => {
                name.push(b.into())
            }
            b => name += &format!("\\x{b:02x}"),
        }
    }
    name
}

#[cfg(test)]
mod tests {
    use super::unit_name;

    #[test]
    fn units_are_named_as_systemd_escape_names_them() {
        for (path, name) in [
            ("/mnt/granary/media", "mnt-granary-media"),
            ("/mnt/my-box/a b", "mnt-my\\x2dbox-a\\x20b"),
            ("/.hidden//x/", "\\x2ehidden-x"),
            ("/", "-"),
            ("/ö", "\\xc3\\xb6"),
        ] {
            assert_eq!(unit_name(path), name);
        }
    }
}
