//! `tarvek emit`.

use std::io;
use std::path::Path;

use tarvek_core::layout::host::{Host, HostRole};
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::text::shown;
use tarvek_formats::emit::{self, Piece, Unsayable};
use tarvek_host::files::{NewFile, write_new};

use crate::cli::{EmitArgs, Emitted, Globals};
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::Screen;

pub(super) fn run(globals: &Globals, args: &EmitArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let (layout, file) = inputs::layout(globals)?;
    let pieces = match &args.host {
        Some(name) => {
            let name = Name::from(name.as_str());
            let host = layout.host(&name).ok_or_else(|| {
                let known: Vec<String> =
                    layout.hosts.iter().map(|host| host.name.to_string()).collect();
                Failure::with_remedy(
                    format!("the layout has no host {name}"),
                    format!("it has: {}", known.join(", ")),
                )
            })?;
            of_host(args.what, &layout, host, &file)?
        }
        None => of_one(args.what, &layout, &file)?,
    };
    if pieces.is_empty() {
        return Err(Failure::with_remedy(
            "the layout has nothing of the kind to write",
            "declare it in the layout first, or name another host",
        ));
    }
    match &args.output {
        Some(folder) => {
            write(folder, &pieces)?;
            for piece in &pieces {
                screen
                    .say(&format!("written: {}\n", inputs::name_of(&folder.join(&piece.name))))?;
            }
        }
        None => {
            let several = pieces.len() > 1;
            for (n, piece) in pieces.iter().enumerate() {
                if several {
                    let gap = if n > 0 { "\n" } else { "" };
                    screen.say(&format!(
                        "{gap}# ---- {} (mode {:04o})\n",
                        shown(piece.name.as_bytes()),
                        piece.mode
                    ))?;
                }
                screen.say(&piece.text)?;
            }
        }
    }
    Ok(Outcome::Fine)
}

fn of_host(what: Emitted, layout: &Layout, host: &Host, file: &str) -> Result<Vec<Piece>, Failure> {
    let pieces = match what {
        Emitted::Compose => emit::compose(layout, host, file),
        Emitted::Quadlet => emit::quadlet(layout, host, file),
        Emitted::Fstab => emit::fstab(layout, host, file),
        Emitted::Systemd => emit::systemd(layout, host, file),
        Emitted::Exports => emit::exports(layout, host, file),
        Emitted::Smb => emit::smb(layout, host, file),
        Emitted::Accounts => emit::accounts(layout, host, file),
        Emitted::Script => emit::script(layout, host, file),
        Emitted::Clients => emit::clients(layout, Some(host), file),
    };
    pieces.map_err(|error| unsayable(&error, file))
}

fn unsayable(error: &Unsayable, file: &str) -> Failure {
    let Unsayable { origin, message, remedy } = error;
    let place = format!("{file}:{}:{}", origin.line, origin.column);
    Failure::with_remedy(format!("{place}: {message}; nothing was written"), remedy)
}

/// What is written of the only host that has something to write.
fn of_one(what: Emitted, layout: &Layout, file: &str) -> Result<Vec<Piece>, Failure> {
    if what == Emitted::Clients {
        return emit::clients(layout, None, file).map_err(|error| unsayable(&error, file));
    }
    // What clients need is told in the words of `clients`.
    let hosts = layout.hosts.iter().filter(|host| host.roles != [HostRole::Client]);
    let mut found: Vec<(&Name, Vec<Piece>)> = Vec::new();
    for host in hosts {
        let pieces = of_host(what, layout, host, file)?;
        if !pieces.is_empty() {
            found.push((&host.name, pieces));
        }
    }
    if found.len() > 1 {
        let names: Vec<String> = found.iter().map(|(name, _)| name.to_string()).collect();
        return Err(Failure::with_remedy(
            "several hosts have something to write",
            format!("say which: --host {}", names.join(" or --host ")),
        ));
    }
    Ok(found.pop().map(|(_, pieces)| pieces).unwrap_or_default())
}

/// Writes all or, if one of them is there already, nothing.
fn write(folder: &Path, pieces: &[Piece]) -> Result<(), Failure> {
    let files: Vec<NewFile> = pieces
        .iter()
        .map(|piece| NewFile {
            name: Path::new(&piece.name),
            contents: piece.text.as_bytes(),
            mode: piece.mode,
        })
        .collect();
    write_new(folder, &files).map_err(|failed| {
        let name = inputs::name_of(&failed.path);
        match failed.error.kind() {
            io::ErrorKind::AlreadyExists => Failure::with_remedy(
                format!("{name} is there already; nothing was written"),
                "name another folder, or move it away",
            ),
            _ => Failure::with_remedy(
                format!("can't write {name}: {}; nothing was written", failed.error),
                "name another folder",
            ),
        }
    })
}
