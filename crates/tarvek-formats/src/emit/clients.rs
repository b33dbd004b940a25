//! What people type on their machines.

use tarvek_core::layout::host::{Host, HostRole};
use tarvek_core::layout::mount::MountSource;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::terms::{Os, Protocol};
use tarvek_core::words::text::shell_quoted;

use super::mounts::fstab_line;
use super::piece::{Emitted, Piece, address, say, text};
use super::quote::{comment, url, windows};

/// Words for every client of the layout, or for one.
pub fn clients(layout: &Layout, only: Option<&Host>, file: &str) -> Emitted {
    let mut out = String::new();
    let clients = layout.hosts.iter().filter(|host| host.roles.contains(&HostRole::Client));
    for host in clients.filter(|host| only.is_none_or(|only| only.name == host.name)) {
        for mount in layout.mounts.iter().filter(|mount| mount.host == host.name) {
            let share = match (&mount.from, mount.protocol) {
                (MountSource::Share(name), Protocol::Smb) => layout.share(name),
                _ => None,
            };
            let Some(share) = share else { continue };
            let server = address(layout, &share.host);
            let user = mount.user.as_ref().map_or("NAME", Name::raw);
            let line = mount.origin.line;
            out += &format!("{}:\n", comment(&format!("{} ({file} line {line})", host.name)));
            out += &match host.os {
                Os::Windows => {
                    let said = |text: &str| say(mount.origin, text, windows(text));
                    // A share without a drive letter is used by its own name.
                    let drive = match mount.at.as_smb_source() {
                        None => {
                            let drive = text(&mount.at);
                            let drive = drive.trim_start_matches('/');
                            say(mount.origin, drive, windows(drive))? + " "
                        }
                        Some(_) => String::new(),
                    };
                    format!(
                        "  Type this in a command window; it asks for {}'s password, and keeps the \
                         drive after a restart.\n\
                         \x20   net use {drive}{} /user:{} /persistent:yes\n",
                        Name::from(user),
                        said(&format!("\\\\{server}\\{}", share.name.raw()))?,
                        said(user)?
                    )
                }
                Os::Macos => {
                    let address = format!("smb://{}@{server}/{}", url(user), url(share.name.raw()));
                    format!(
                        "  Type this in Terminal, or the address under Go > Connect to Server in \
                         the Finder.\n\
                         \x20   open {}\n",
                        shell_quoted(address.as_bytes())
                    )
                }
                Os::Linux => format!(
                    "  Add this line to /etc/fstab, make the folder {}, and put name and password \
                     into the file it names (mode 0600).\n\
                     \x20   {}",
                    mount.at,
                    fstab_line(layout, host, mount)?
                ),
            };
        }
    }
    Ok(if out.is_empty() { Vec::new() } else { vec![Piece::new("clients.txt", out)] })
}
