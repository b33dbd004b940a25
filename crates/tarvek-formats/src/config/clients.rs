//! What clients have mapped: `net use`, and lines of `smb://` with the folder they are mounted at.

use tarvek_core::facts::configured::{Fact, MountFact};
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::secret;

use super::collect::{Collect, number, spot};
use super::table::printed_line;

/// Reads what `net use` prints: a status, a drive letter, a source, and the network.
pub(super) fn net_use(file: &Name, text: &str, out: &mut Collect) {
    out.open(file, text, "a list of drives");
    for (n, line) in text.lines().enumerate() {
        let at = spot(file, number(n));
        let Some(start) = line.find("\\\\") else { continue };
        let letter = line[..start].split_whitespace().last().filter(|word| {
            word.len() == 2 && word.ends_with(':') && word.as_bytes()[0].is_ascii_alphabetic()
        });
        let Some(letter) = letter else {
            out.skip(&at, "the share has no drive letter");
            continue;
        };
        // Columns part at two spaces; a share's name may have one.
        let rest = &line[start..];
        let source = rest.split("  ").next().unwrap_or(rest).trim_end();
        let source = source.strip_suffix("Microsoft Windows Network").unwrap_or(source).trim_end();
        out.fact(&at, Fact::Mount(smb(source, letter)));
    }
}

/// Reads lines of `smb://[USER@]SERVER/SHARE AT`, or what `mount(8)` prints.
pub(super) fn urls(file: &Name, text: &str, out: &mut Collect) {
    out.open(file, text, "a list of shares");
    for (n, line) in text.lines().enumerate() {
        let at = spot(file, number(n));
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        if let Some(fact) = printed_line(line) {
            out.fact(&at, Fact::Mount(fact));
            continue;
        }
        let Some((url, point)) = line.split_once(char::is_whitespace) else {
            out.skip(&at, "a share and the folder it is mounted at stand in one line");
            continue;
        };
        match url.split_once("://") {
            Some(("smb" | "cifs", rest)) => {
                let source = format!("//{}", secret::hide(rest));
                out.fact(&at, Fact::Mount(smb(&source, point.trim())));
            }
            Some(("nfs", rest)) => {
                let (server, path) = rest.split_once('/').unwrap_or((rest, ""));
                let mut fact = smb(&format!("{server}:/{path}"), point.trim());
                fact.filesystem = "nfs".into();
                out.fact(&at, Fact::Mount(fact));
            }
            _ => out.skip(&at, "it is no smb:// or nfs:// address"),
        }
    }
}

fn smb(source: &str, at: &str) -> MountFact {
    MountFact {
        source: secret::hide(source).into_bytes(),
        at: at.as_bytes().to_vec(),
        filesystem: "smb".into(),
        options: MountOptions::default(),
        boot: false,
        mounted: true,
    }
}
