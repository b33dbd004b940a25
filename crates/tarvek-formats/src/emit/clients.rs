//! What people type on their machines.

use tarvek_core::layout::host::{Host, HostRole};
use tarvek_core::layout::mount::MountSource;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::terms::{Os, Protocol};

use super::{Piece, address, fstab, text};

/// Words for every client of the layout, or for one.
pub fn clients(layout: &Layout, only: Option<&Host>, file: &str) -> Vec<Piece> {
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
            let at = text(&mount.at);
            out += &format!("{} ({file} line {}):\n", host.name, mount.origin.line);
            out += &match host.os {
                Os::Windows => format!(
                    "  Type this in a command window; it asks for {user}'s password, and keeps the drive after a restart.\n\
                     \x20   net use {}\\\\{server}\\{} /user:{user} /persistent:yes\n",
                    // A share without a drive letter is used by its own name.
                    mount.at.as_smb_source().map_or_else(
                        || at.trim_start_matches('/').to_owned() + " ",
                        |_| String::new()
                    ),
                    share.name.raw()
                ),
                Os::Macos => format!(
                    "  Type this in Terminal, or the address under Go > Connect to Server in the Finder.\n\
                     \x20   open smb://{user}@{server}/{}\n",
                    share.name.raw()
                ),
                Os::Linux => {
                    let lines = fstab(layout, host, file).into_iter().next();
                    let lines = lines.map(|piece| piece.text).unwrap_or_default();
                    let line = lines.lines().find(|line| line.contains(&format!(" {at} ")));
                    format!(
                        "  Add this line to /etc/fstab, make the folder {at}, and put name and password into the file it names (mode 0600).\n\
                         \x20   {}\n",
                        line.unwrap_or_default()
                    )
                }
            };
        }
    }
    if out.is_empty() { Vec::new() } else { vec![Piece::new("clients.txt", out)] }
}
