//! Which format a file is in, told by what stands in it.

use std::path::Path;

/// A format that configuration is kept in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// Compose Specification.
    Compose,
    /// `podman-systemd.unit(5)`.
    Quadlet,
    /// `systemd.mount(5)`, `systemd.automount(5)`.
    Unit,
    /// `fstab(5)`.
    Fstab,
    /// `/proc/mounts`.
    Mounts,
    /// `/proc/PID/mountinfo`.
    Mountinfo,
    /// What `mount(8)` prints.
    Printed,
    /// `lxc.container.conf(5)`, and lines of `mpN:`.
    Lxc,
    /// `exports(5)`.
    Exports,
    /// `smb.conf(5)`.
    Smb,
    /// `passwd(5)`.
    Passwd,
    /// `group(5)`.
    Group,
    /// `subuid(5)`.
    Subuid,
    /// `subgid(5)`.
    Subgid,
    /// `getfacl(1)`.
    Folders,
    /// `zfs list`, `zfs get`.
    Datasets,
    /// `net use`.
    Drives,
    /// `smb://` and `nfs://` addresses, and where they are mounted.
    Urls,
}

impl Format {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Compose => "Compose file",
            Self::Quadlet => "container unit",
            Self::Unit => "mount unit",
            Self::Fstab => "fstab",
            Self::Mounts | Self::Mountinfo | Self::Printed => "mount table",
            Self::Lxc => "container configuration",
            Self::Exports => "exports",
            Self::Smb => "smb.conf",
            Self::Passwd => "accounts",
            Self::Group => "groups",
            Self::Subuid => "subordinate uids",
            Self::Subgid => "subordinate gids",
            Self::Folders => "ACLs",
            Self::Datasets => "datasets",
            Self::Drives => "drives",
            Self::Urls => "mapped shares",
        }
    }
}

/// Lines are looked at no further than this.
const LINES: usize = 2000;

/// The format of a text; `None` if it is none of them. The name decides only between those that
/// look alike (`subuid` and `subgid`).
pub fn recognise(name: &Path, text: &str) -> Option<Format> {
    if text.contains('\0') {
        return None;
    }
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let lines = || text.lines().take(LINES).map(str::trim_end);
    let said: Vec<&str> = lines()
        .filter(|line| !line.trim().is_empty() && !line.trim_start().starts_with(['#', ';']))
        .collect();
    if lines().any(|line| line.starts_with("# file: "))
        && lines().any(|line| line.starts_with("# owner: "))
    {
        return Some(Format::Folders);
    }
    let first = *said.first()?;
    let by_lines = |fits: &dyn Fn(&str) -> bool| said.iter().all(|line| fits(line));
    if first.trim_start().starts_with('{') {
        return text.contains("\"datasets\"").then_some(Format::Datasets);
    }
    if let Some(format) = sections(&said) {
        return Some(format);
    }
    let top = |key: &str| {
        said.iter().any(|line| {
            line.strip_prefix(key).is_some_and(|rest| rest.trim_start().starts_with(':'))
        })
    };
    if ["services", "\"services\"", "'services'"].into_iter().any(top) {
        return Some(Format::Compose);
    }
    let lxc = |line: &&str| {
        line.starts_with("lxc.") || is_mount_point(line) || line.starts_with("unprivileged:")
    };
    if said.iter().any(lxc) {
        return Some(Format::Lxc);
    }
    if top("volumes") || top("include") || first.starts_with("services") {
        return Some(Format::Compose);
    }
    if said.iter().any(|line| is_drive(line)) {
        return Some(Format::Drives);
    }
    if said.iter().any(|line| {
        ["smb://", "cifs://", "nfs://"].iter().any(|scheme| line.trim_start().starts_with(scheme))
    }) {
        return Some(Format::Urls);
    }
    if by_lines(&is_mountinfo) {
        return Some(Format::Mountinfo);
    }
    if first.contains(" on ") && first.ends_with(')') && by_lines(&|line| line.contains(" on ")) {
        return Some(Format::Printed);
    }
    if first.starts_with("NAME") && (first.contains("MOUNTPOINT") || first.contains("PROPERTY")) {
        return Some(Format::Datasets);
    }
    if by_lines(&|line| is_dataset(line)) {
        return Some(Format::Datasets);
    }
    colons(name, &said).or_else(|| fields(&said))
}

/// Formats with sections in brackets.
fn sections(said: &[&str]) -> Option<Format> {
    let heading = |line: &&&str| line.trim_start().starts_with('[') && line.contains(']');
    let headings: Vec<String> = said
        .iter()
        .filter(heading)
        .map(|line| {
            line.trim().trim_start_matches('[').split(']').next().unwrap_or_default().to_lowercase()
        })
        .collect();
    let has = |name: &str| headings.iter().any(|known| known == name);
    let key = |key: &str| {
        said.iter().any(|line| {
            line.split_once('=').is_some_and(|(k, _)| k.trim().eq_ignore_ascii_case(key))
        })
    };
    if headings.is_empty() || said.iter().any(|line| line.trim_start().starts_with("lxc.")) {
        return None;
    }
    if (has("mount") && key("What")) || (has("automount") && key("Where")) {
        return Some(Format::Unit);
    }
    let podman = has("container") && (key("Image") || key("Rootfs"));
    if podman || (has("pod") && !key("path")) || (has("volume") && !key("path")) {
        return Some(Format::Quadlet);
    }
    let of_smb = [
        "path",
        "directory",
        "workgroup",
        "read only",
        "guest ok",
        "guest only",
        "public",
        "valid users",
        "write list",
        "read list",
        "writeable",
        "writable",
        "browseable",
        "browsable",
        "create mask",
        "directory mask",
        "force user",
        "force group",
        "vfs objects",
        "include",
        "copy",
        "security",
        "comment",
    ];
    if has("global") || of_smb.into_iter().any(key) {
        // A layout, a container's earlier states and the like have other keys.
        let toml = said.iter().any(|line| line.starts_with("tarvek") || line.starts_with("brief"));
        return (!toml && !said.iter().any(|line| is_mount_point(line))).then_some(Format::Smb);
    }
    None
}

fn is_mount_point(line: &str) -> bool {
    let digits = line.strip_prefix("mp").and_then(|rest| rest.split_once(':'));
    digits.is_some_and(|(n, rest)| {
        !n.is_empty() && n.bytes().all(|b| b.is_ascii_digit()) && rest.contains("mp=")
    })
}

fn is_drive(line: &str) -> bool {
    let mut words = line.split_whitespace().skip_while(|word| !word.ends_with(':'));
    let letter = words.next().is_some_and(|word| word.len() == 2);
    letter && words.next().is_some_and(|word| word.starts_with("\\\\"))
}

fn is_mountinfo(line: &str) -> bool {
    let fields: Vec<&str> = line.split(' ').take(3).collect();
    let number = |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
    matches!(fields[..], [id, parent, device]
        if number(id) && number(parent) && device.split_once(':').is_some_and(|(a, b)| number(a) && number(b)))
}

/// A line of `zfs list -H` or `zfs get -H`.
fn is_dataset(line: &str) -> bool {
    let fields: Vec<&str> = line.split('\t').collect();
    match fields[..] {
        [_, _, _, source] => {
            matches!(source, "-" | "local" | "default" | "received" | "none")
                || source.starts_with("inherited")
        }
        [_, used, _, _, point, ..] => {
            used.starts_with(|c: char| c.is_ascii_digit())
                && (point.starts_with('/') || matches!(point, "-" | "none" | "legacy"))
        }
        _ => false,
    }
}

/// Records with colons.
fn colons(name: &Path, said: &[&str]) -> Option<Format> {
    let count = |line: &&str| line.split(':').count();
    let number = |line: &str, at: usize| {
        line.split(':')
            .nth(at)
            .is_some_and(|n| !n.is_empty() && n.trim().bytes().all(|b| b.is_ascii_digit()))
    };
    // Lines that are broken are told later; most of them decide.
    let most = |columns: usize, numbers: &[usize]| {
        let fits = |line: &&&str| {
            // An account of a directory service may have a blank in its name, but none a path.
            !line.split(':').next().unwrap_or_default().contains(['/', '"', '('])
                && (columns != 3 || !line.contains(char::is_whitespace))
                && count(line) == columns
                && numbers.iter().all(|at| number(line, *at))
        };
        said.iter().filter(fits).count() * 2 > said.len()
    };
    if most(7, &[2, 3]) {
        return Some(Format::Passwd);
    }
    if most(4, &[2]) {
        return Some(Format::Group);
    }
    if most(3, &[1, 2]) {
        let gids = name.file_name().is_some_and(|name| name.to_string_lossy().contains("subgid"));
        return Some(if gids { Format::Subgid } else { Format::Subuid });
    }
    None
}

/// Tables with blanks: `fstab`, `/proc/mounts`, and `exports`.
fn fields(said: &[&str]) -> Option<Format> {
    let (mut mounts, mut exports, mut kernel) = (0, 0, false);
    for line in said {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let point = |text: &str| text.starts_with('/') || matches!(text, "none" | "swap");
        match fields[..] {
            // Filesystems have names, and what begins with a digit is a size.
            [_, at, kind, ..]
                if point(at)
                    && !kind.contains('(')
                    && !kind.starts_with(|c: char| c.is_ascii_digit()) =>
            {
                mounts += 1;
                kernel |= at == "/proc"
                    && kind == "proc"
                    && fields.last() == Some(&"0")
                    && fields.get(3).is_some_and(|o| o.starts_with("rw,"));
            }
            [path, ..] if path.starts_with('/') || path.starts_with("\"/") => exports += 1,
            _ => {}
        }
    }
    let ends_in_zeros = said.iter().all(|line| line.ends_with(" 0 0"));
    match (mounts, exports) {
        (0, 0) => None,
        (mounts, exports) if mounts >= exports => {
            Some(if kernel && ends_in_zeros { Format::Mounts } else { Format::Fstab })
        }
        _ => Some(Format::Exports),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn content_says_what_a_file_is() {
        use Format::*;
        for (text, format) in [
            ("services:\n  a:\n    image: x\n", Some(Compose)),
            ("# x\nversion: \"3\"\nservices: {}\n", Some(Compose)),
            ("[Container]\nImage=x\n", Some(Quadlet)),
            ("[Volume]\nDevice=x\n", Some(Quadlet)),
            ("[Unit]\n[Mount]\nWhat=a\nWhere=/b\n", Some(Unit)),
            ("[Automount]\nWhere=/b\n", Some(Unit)),
            ("[media]\n path = /loft\n", Some(Smb)),
            ("[Volume]\n path = /loft\n", Some(Smb)),
            ("[global]\nworkgroup = x\n", Some(Smb)),
            ("UUID=1 /a ext4 defaults 0 2\n", Some(Fstab)),
            ("g:/m /a nfs ro\n", Some(Fstab)),
            ("proc /proc proc rw,nosuid 0 0\n/dev/a / ext4 rw 0 0\n", Some(Mounts)),
            ("proc /proc proc defaults 0 0\n/dev/a / ext4 rw 0 0\n", Some(Fstab)),
            ("36 35 98:0 /m /a rw - ext3 /dev/r rw\n", Some(Mountinfo)),
            ("//m@g/media on /Volumes/media (smbfs, nodev)\n", Some(Printed)),
            ("lxc.uts.name = kelp\n", Some(Lxc)),
            ("arch: amd64\nmp0: /loft,mp=/loft\n", Some(Lxc)),
            ("/loft/media 10.0.0.0/8(ro)\n", Some(Exports)),
            ("\"/loft/a b\" *(ro)\n/loft/c\n", Some(Exports)),
            ("/loft/b parlour (rw)\n", Some(Exports)),
            ("/loft/c *(fsid=12345678:12345678:12345678:12345678)\n", Some(Exports)),
            ("root:x:0:0::/root:/bin/sh\n", Some(Passwd)),
            ("keepers:x:2100:mira\n", Some(Group)),
            ("lantern:100000:65536\n", Some(Subuid)),
            ("# file: loft\n# owner: root\n# group: root\nuser::rwx\n", Some(Folders)),
            ("NAME USED AVAIL REFER MOUNTPOINT\nloft 1G 2G 1G /loft\n", Some(Datasets)),
            ("loft/media\tatime\toff\tlocal\n", Some(Datasets)),
            ("{\"datasets\": {}}\n", Some(Datasets)),
            ("Status  Local  Remote\nOK  Z:  \\\\granary\\media  N\n", Some(Drives)),
            ("smb://mira@granary/media /Volumes/media\n", Some(Urls)),
            ("tarvek = 1\n[host.a]\n", None),
            ("just words\n", None),
            ("loft\t/loft\t10G\n", None),
            ("", None),
        ] {
            assert_eq!(recognise(Path::new("file"), text), format, "{text}");
        }
        assert_eq!(recognise(Path::new("/etc/subgid"), "a:1:2\n"), Some(Subgid));
    }
}
