//! POSIX ACLs as text (`acl(5)`, long and short form, with numbers).

use tarvek_core::kernel::acl::{Acl, AclEntry, Tag};

/// One entry: `user::rwx`, `u:840:r-x`, `mask::r--`. A comment or an effective-rights remark after
/// it is passed over.
pub fn entry(text: &str) -> Option<AclEntry> {
    let text = text.split('#').next()?.trim();
    let mut parts = text.split(':');
    let (tag, id, perm) = (parts.next()?, parts.next()?, parts.next()?);
    let id = if id.is_empty() { None } else { Some(id.parse::<u32>().ok()?) };
    let tag = match (tag, id) {
        ("user" | "u", None) => Tag::UserObj,
        ("user" | "u", Some(uid)) => Tag::User(uid),
        ("group" | "g", None) => Tag::GroupObj,
        ("group" | "g", Some(gid)) => Tag::Group(gid),
        ("mask" | "m", None) => Tag::Mask,
        ("other" | "o", None) => Tag::Other,
        _ => return None,
    };
    let bits = perm.chars().try_fold(0, |bits, c| match c {
        'r' => Some(bits | 4),
        'w' => Some(bits | 2),
        'x' => Some(bits | 1),
        '-' => Some(bits),
        _ => None,
    })?;
    Some(AclEntry { tag, perm: bits })
}

/// Reads an ACL in one line, as it is displayed.
pub fn read(text: &str) -> Option<Acl> {
    Some(Acl::new(text.split(',').map(entry).collect::<Option<_>>()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn acls_come_back() {
        let text_form = "user::rwx,user:840:r-x,group::r-x,group:2100:rwx,mask::rwx,other::---";
        assert_eq!(read(text_form).unwrap().to_string(), text_form);
        assert_eq!(entry("group:2100:rwx\t#effective:r-x").unwrap().perm, 7);
        for wrong in ["user:x:rwx", "user::rwq", "who::rwx", "user:", "mask:1:rwx"] {
            assert_eq!(entry(wrong), None, "{wrong}");
        }
    }
}
