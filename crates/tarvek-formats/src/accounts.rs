//! `passwd(5)` and `group(5)`.

use std::collections::HashMap;

use tarvek_core::facts::host_report::Subordinate;
use tarvek_core::words::name::Name;
use tarvek_core::words::terms::{Account, Group};

/// Reads both files together: each account gets the groups that list it. Lines without numbers are
/// passed over, as the C library does; password fields are never looked at.
pub fn read(passwd: &[u8], group: &[u8]) -> (Vec<Account>, Vec<Group>) {
    let (passwd, group) = (String::from_utf8_lossy(passwd), String::from_utf8_lossy(group));
    let members = Members::of(group.lines());
    let accounts = records(&passwd).filter_map(|line| members.account(line)).collect();
    (accounts, records(&group).filter_map(self::group).collect())
}

fn records(text: &str) -> impl Iterator<Item = &str> {
    text.lines().filter(|line| !line.is_empty() && !line.starts_with('#'))
}

/// A line of `group(5)`.
pub(crate) fn group(line: &str) -> Option<Group> {
    let mut fields = line.split(':');
    let name = fields.next()?;
    Some(Group { name: name.into(), gid: fields.nth(1)?.parse().ok()? })
}

/// Which groups list whom.
pub(crate) struct Members(HashMap<String, Vec<Name>>);

impl Members {
    /// From lines of `group(5)`.
    pub(crate) fn of<'a>(lines: impl Iterator<Item = &'a str>) -> Self {
        let mut members: HashMap<String, Vec<Name>> = HashMap::new();
        for line in lines.filter(|line| !line.starts_with('#')) {
            let Some(Group { name, .. }) = group(line) else { continue };
            for member in line.split(':').nth(3).into_iter().flat_map(|names| names.split(',')) {
                let of_member = members.entry(member.trim().to_owned()).or_default();
                // A group may list somebody twice.
                if of_member.last() != Some(&name) {
                    of_member.push(name.clone());
                }
            }
        }
        Self(members)
    }

    /// A line of `passwd(5)`.
    pub(crate) fn account(&self, line: &str) -> Option<Account> {
        let mut fields = line.split(':');
        let name = fields.next()?;
        let uid = fields.nth(1)?.parse().ok()?;
        let gid = fields.next().and_then(|gid| gid.parse().ok());
        let groups = self.0.get(name).cloned().unwrap_or_default();
        Some(Account { name: name.into(), uid, gid, groups })
    }
}

/// `lantern:100000:65536`.
pub(crate) fn subordinate(line: &str) -> Option<Subordinate> {
    let fields: Vec<&str> = line.trim().split(':').collect();
    let [owner, first, count] = fields[..] else { return None };
    Some(Subordinate {
        owner: owner.into(),
        first: first.parse().ok()?,
        count: count.parse().ok()?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn accounts_get_the_groups_that_list_them() {
        let (accounts, groups) = read(
            b"root:x:0:0::/root:/bin/sh\nmira:x:1101:1101::/:\nbroken:x:x:1\n+::::::\n",
            b"root:x:0:\nkeepers:x:2100:mira, oskar\nmira:x:1101:\n",
        );
        assert_eq!(groups.len(), 3);
        assert_eq!(accounts[1].groups, ["keepers"]);
        assert_eq!(accounts.len(), 2);
    }
}
