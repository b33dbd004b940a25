//! `passwd(5)` and `group(5)`.

use std::collections::HashMap;

use tarvek_core::words::name::Name;
use tarvek_core::words::terms::{Account, Group};

/// Reads both files together: each account gets the groups that list it. Lines without numbers are passed over, as the
/// C library does; password fields are never looked at.
pub fn read(passwd: &[u8], group: &[u8]) -> (Vec<Account>, Vec<Group>) {
    let mut groups = Vec::new();
    let mut memberships: HashMap<String, Vec<Name>> = HashMap::new();
    for fields in records(group) {
        let (Some(name), Some(Ok(gid))) = (fields.first(), fields.get(2).map(|gid| gid.parse()))
        else {
            continue;
        };
        for member in fields.get(3).into_iter().flat_map(|names| names.split(',')) {
            let of_member = memberships.entry(member.trim().to_owned()).or_default();
            let group = Name::from(name.as_str());
            // A group may list somebody twice.
            if of_member.last() != Some(&group) {
                of_member.push(group);
            }
        }
        groups.push(Group { name: name.as_str().into(), gid });
    }
    let mut accounts = Vec::new();
    for fields in records(passwd) {
        let (Some(name), Some(Ok(uid))) = (fields.first(), fields.get(2).map(|uid| uid.parse()))
        else {
            continue;
        };
        let gid = fields.get(3).and_then(|gid| gid.parse().ok());
        let groups = memberships.get(name).cloned().unwrap_or_default();
        accounts.push(Account { name: name.as_str().into(), uid, gid, groups });
    }
    (accounts, groups)
}

fn records(text: &[u8]) -> impl Iterator<Item = Vec<String>> {
    text.split(|&b| b == b'\n').filter(|line| !line.is_empty() && !line.starts_with(b"#")).map(
        |line| {
            let line = String::from_utf8_lossy(line);
            line.trim_end_matches('\r').split(':').map(str::to_owned).collect()
        },
    )
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
