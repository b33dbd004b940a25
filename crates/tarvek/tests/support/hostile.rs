//! Hostile input: a site in which each text may be anything, and what no output may do with it.
#![allow(dead_code, unreachable_pub)] // each test binary uses a part of this

use std::path::Path;
use std::process::Output;

use super::Folder;

/// Characters and texts that mean something to a terminal, a shell, a line of configuration or a
/// path. FORGED stands for the line that somebody would like to see there.
pub const HOSTILE: &[&str] = &[
    "\u{1b}]0;FORGED\u{7}",
    "\u{1b}[2J",
    "\nFORGED ready",
    "\r\nFORGED",
    "\u{85}FORGED",
    "\u{2028}FORGED",
    "\u{202e}DEGROF",
    "\u{200b}",
    "\u{feff}",
    "\u{9b}31m",
    "\u{e0041}",
    "\u{7f}",
    "\t",
    "'; touch FORGED; '",
    "$(touch FORGED)",
    "`touch FORGED`",
    "\" #",
    "\\",
    "../../FORGED",
    "/*(rw,no_root_squash) #",
    "]\n[FORGED]\npath = /",
    "%h%U",
    ",rw,uid=0",
    ": x",
    " ",
    "#",
    "|",
];

/// Secrets in the ways that people write them; none of them may come out anywhere.
pub const SECRETS: &[&str] =
    &["//mira:s3cr3t@granary/media", "mira%s3cr3t", "rw,password=s3cr3ta,s3cr3tb", "token=s3cr3t"];

/// A layout in which every key stands.
pub const LAYOUT: &str = include_str!("../data/every-key.toml");

/// A text as TOML writes it.
pub fn toml(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            c if c.is_control() => out += &format!("\\U{:08x}", u32::from(c)),
            c => out.push(c),
        }
    }
    out + "\""
}

/// Where the texts of a layout stand, with their quotation marks.
pub fn texts(layout: &str) -> Vec<std::ops::Range<usize>> {
    let mut texts = Vec::new();
    let mut from = 0;
    for line in layout.split_inclusive('\n') {
        if !line.starts_with('#') {
            let quotes: Vec<usize> = line.match_indices('"').map(|(at, _)| from + at).collect();
            texts.extend(quotes.chunks_exact(2).map(|pair| pair[0]..pair[1] + 1));
        }
        from += line.len();
    }
    texts
}

/// Keys that somebody chose, in headers and before `= {`: names of hosts, shares, services,
/// accounts.
pub fn keys(layout: &str) -> Vec<std::ops::Range<usize>> {
    let mut keys = Vec::new();
    let mut from = 0;
    for line in layout.split_inclusive('\n') {
        if let Some(inner) = line.strip_prefix('[').filter(|inner| !inner.starts_with('['))
            && let Some((kind, name)) = inner.split_once('.')
        {
            let start = from + 1 + kind.len() + 1;
            let length = name.find([']', '.']).unwrap_or(name.len());
            keys.push(start..start + length);
        }
        for mark in [" = { uid", " = 21", " = 22"] {
            if let Some(at) = line.find(mark) {
                let start = line[..at].rfind(['{', ',', ' ']).map_or(0, |start| start + 1);
                keys.push(from + start..from + at);
            }
        }
        from += line.len();
    }
    keys
}

/// Every command, on a site in the folder.
pub const COMMANDS: &[&str] = &[
    "check",
    "check --format json",
    "check -v",
    "trace /media/films --from service:lantern",
    "trace /media/films --from service:lantern --format json",
    "trace /mnt/granary/media --from host:millrace",
    "trace M:/films --from client:parlour",
    "access /media/films --from service:lantern",
    "access /loft/media/films --from host:granary --all",
    "access /loft/media/films --from host:granary --all --format json",
    "access /loft/media/films --from host:granary --new-file",
    "link /data/intake/done/films /data/films --from service:joiner",
    "link /data/intake/done/films /data/films --from service:joiner --format json",
    "compare granary.listing older.listing",
    "compare granary.listing older.listing --format json",
    "survey --from granary.listing -o granary-of-listing.survey",
    "emit accounts --host granary",
    "emit script --host granary",
    "emit exports --host granary",
    "emit smb --host granary",
    "emit fstab --host millrace",
    "emit systemd --host millrace",
    "emit compose --host millrace",
    "emit quadlet --host millrace",
    "emit clients",
];

/// The site, with a layout.
pub fn site(layout: &str) -> Folder {
    let folder = Folder::demo();
    let older = folder.read("granary.listing").replace("0755", "0750");
    folder.write("older.listing", older).write("tarvek.toml", layout);
    folder
}

/// Runs a command, and complains about anything in its outputs that no output may have.
pub fn run(folder: &Folder, command: &str, about: &str) -> Result<i32, String> {
    let mut words: Vec<&str> = command.split_whitespace().collect();
    words.extend(["--color", "never"]);
    judged(&folder.output(words), &format!("{command}: {about}"))
}

pub fn judged(output: &Output, about: &str) -> Result<i32, String> {
    let code = output.status.code().ok_or_else(|| format!("{about}: killed by a signal"))?;
    if !matches!(code, 0..=2) {
        return Err(format!(
            "{about}: exit code {code}: {}",
            String::from_utf8_lossy(&output.stderr)
        ));
    }
    for (stream, bytes) in [("stdout", &output.stdout), ("stderr", &output.stderr)] {
        let text = String::from_utf8(bytes.clone())
            .map_err(|_| format!("{about}: {stream} is no UTF-8"))?;
        let unseen = text.chars().find(|c| *c != '\n' && tarvek_core::words::text::is_unseen(*c));
        if let Some(c) = unseen {
            let line = text.lines().find(|line| line.contains(c)).unwrap_or_default();
            return Err(format!("{about}: {stream} has U+{:04X}: {line:?}", u32::from(c)));
        }
        if let Some(line) =
            text.lines().find(|line| line.strip_prefix("  ").unwrap_or(line).starts_with("FORGED"))
        {
            return Err(format!("{about}: {stream} has the forged line {line:?}"));
        }
        if let Some(line) = text.lines().find(|line| line.contains("s3cr3t")) {
            return Err(format!("{about}: {stream} has a secret: {line:?}"));
        }
    }
    Ok(code)
}

/// What a script of ours did when it was run.
pub fn nothing_forged(folder: &Path) -> Result<(), String> {
    let forged = |entry: &std::fs::DirEntry| entry.file_name().to_string_lossy().contains("FORGED");
    let found = std::fs::read_dir(folder).unwrap().flatten().find(forged);
    found.map_or(Ok(()), |entry| Err(format!("{:?} was made", entry.path())))
}

/// Runs the scripts that are emitted, where every command that they may call only says that it was
/// called.
pub fn scripts(folder: &Folder, about: &str) -> Result<(), String> {
    use std::os::unix::fs::PermissionsExt;
    let stubs = folder.path("stubs");
    std::fs::create_dir_all(&stubs).unwrap();
    for name in [
        "groupadd", "useradd", "usermod", "zfs", "btrfs", "setfacl", "getfacl", "chown", "chgrp",
        "chmod", "mkdir",
    ] {
        let stub = stubs.join(name);
        std::fs::write(&stub, "#!/bin/sh\nexit 0\n").unwrap();
        std::fs::set_permissions(stub, std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    for what in ["accounts", "script"] {
        let script = folder.run(&format!("emit {what} --host granary"));
        if script.code != 0 {
            continue;
        }
        let work = folder.path("work");
        std::fs::create_dir_all(&work).unwrap();
        std::fs::write(folder.path("x.sh"), &script.stdout).unwrap();
        let path = format!("{}:/usr/bin:/bin", stubs.display());
        let mut sh = std::process::Command::new("sh");
        let output = sh.arg("../x.sh").current_dir(&work).env("PATH", path).output().unwrap();
        judged(&output, &format!("the emitted {what}: {about}"))?;
        nothing_forged(&work)?;
    }
    Ok(())
}
