//! Commands that make accounts and groups (`groupadd(8)`, `useradd(8)`).

use std::collections::BTreeSet;

use tarvek_core::layout::host::Host;
use tarvek_core::layout::site::Layout;

use tarvek_core::words::name::Name;
use tarvek_core::words::text::shell_quoted;

use super::piece::{Emitted, Piece, Source};

/// Accounts and groups of a host, as a script that leaves alone what is there.
pub fn accounts(layout: &Layout, host: &Host, file: &str) -> Emitted {
    if host.accounts.is_empty() && host.groups.is_empty() {
        return Ok(Vec::new());
    }
    let source = Source { file };
    let mut out = format!(
        "#!/bin/sh\n# Accounts and groups of {}. What is there already stays as it is; run as \
         root.\n{}set -e\n",
        host.name,
        source.of(host.origin, &format!("host {}", host.name))
    );
    out += "group() { getent group \"$2\" >/dev/null || groupadd -g \"$1\" \"$2\"; }\n\
            account() { getent passwd \"$3\" >/dev/null || useradd -u \"$1\" -g \"$2\" -M -d \
            /nonexistent -s \"$4\" \"$3\"; }\n\
            member() { usermod -a -G \"$1\" \"$2\"; }\n\n";
    let mut made: BTreeSet<u32> = BTreeSet::new();
    for group in &host.groups {
        out += &format!("group {} {}\n", group.gid, quoted(&group.name));
        made.insert(group.gid);
    }
    for account in &host.accounts {
        let gid = account.gid.unwrap_or(account.uid);
        if made.insert(gid) {
            out += &format!("group {gid} {}\n", quoted(&account.name));
        }
        let service = layout.service(&account.name).is_some();
        let shell = if service { "/usr/sbin/nologin" } else { "/bin/sh" };
        out += &format!("account {} {gid} {} {shell}\n", account.uid, quoted(&account.name));
        for group in &account.groups {
            out += &format!("member {} {}\n", quoted(group), quoted(&account.name));
        }
    }
    Ok(vec![Piece { name: "accounts.sh".into(), text: out, mode: 0o755 }])
}

fn quoted(name: &Name) -> String {
    shell_quoted(name.raw().as_bytes())
}
