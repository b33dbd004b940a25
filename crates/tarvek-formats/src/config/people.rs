//! `passwd(5)`, `group(5)`, `subuid(5)`, `subgid(5)`.

use tarvek_core::facts::configured::{Fact, IdOf, SubordinateFact};
use tarvek_core::words::name::Name;

use super::collect::{Collect, number, spot};
use crate::accounts;

/// Reads files of accounts and groups together: each account gets the groups that list it.
pub(super) fn read(passwd: &[(Name, String)], group: &[(Name, String)], out: &mut Collect) {
    for (file, text) in passwd.iter().chain(group) {
        out.open(file, text, "a file of accounts");
    }
    let members = accounts::Members::of(group.iter().flat_map(|(_, text)| text.lines()));
    for (file, text) in passwd {
        for (n, line) in text.lines().enumerate() {
            if line.trim().is_empty() || line.starts_with('#') {
                continue;
            }
            let at = spot(file, number(n));
            match members.account(line) {
                Some(account) => out.fact(&at, Fact::Account(account)),
                None => out.skip(&at, "an account is `name:x:UID:GID:…`"),
            }
        }
    }
    for (file, text) in group {
        for (n, line) in text.lines().enumerate() {
            if line.trim().is_empty() || line.starts_with('#') {
                continue;
            }
            let at = spot(file, number(n));
            match accounts::group(line) {
                Some(group) => out.fact(&at, Fact::Group(group)),
                None => out.skip(&at, "a group is `name:x:GID:members`"),
            }
        }
    }
}

/// Reads runs of subordinate ids.
pub(super) fn subordinate(of: IdOf, file: &Name, text: &str, out: &mut Collect) {
    out.open(file, text, "a file of ids");
    for (n, line) in text.lines().enumerate() {
        let at = spot(file, number(n));
        if line.trim().is_empty() || line.starts_with('#') {
            continue;
        }
        match crate::accounts::subordinate(line) {
            Some(run) => {
                let (account, first, count) = (run.owner, run.first, run.count);
                out.fact(&at, Fact::Subordinate(SubordinateFact { of, account, first, count }));
            }
            None => out.skip(&at, "a run of ids is `account:first:count`"),
        }
    }
}
