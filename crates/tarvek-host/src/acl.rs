//! POSIX ACLs as the kernel hands them out: `system.posix_acl_access` and `system.posix_acl_default` (`xattr(7)`;
//! layout in the kernel's `include/uapi/linux/posix_acl_xattr.h`).

use std::ffi::CStr;
use std::io;

use rustix::io::Errno;
use tarvek_core::acl::{Acl, AclEntry, Tag};

/// Name of the access ACL.
pub(crate) const ACCESS: &CStr = c"system.posix_acl_access";
/// Name of a folder's default ACL.
pub(crate) const DEFAULT: &CStr = c"system.posix_acl_default";

/// Reads one ACL of an entry that `path` names, without following a symlink. `None` where there is none, or none that
/// says more than the mode.
pub(crate) fn read(path: &CStr, name: &CStr, buffer: &mut Vec<u8>) -> io::Result<Option<Acl>> {
    buffer.resize(buffer.capacity().max(1024), 0);
    let length = loop {
        match rustix::fs::lgetxattr(path, name, &mut *buffer) {
            Ok(length) => break length,
            Err(Errno::RANGE) if buffer.len() < 1 << 16 => buffer.resize(1 << 16, 0),
            Err(Errno::NODATA | Errno::OPNOTSUPP | Errno::NOSYS) => return Ok(None),
            Err(error) => return Err(error.into()),
        }
    };
    let acl = parse(&buffer[..length]).ok_or(io::ErrorKind::InvalidData)?;
    // Three entries say what the mode says.
    Ok((acl.entries().len() > 3 || name == DEFAULT).then_some(acl))
}

fn parse(bytes: &[u8]) -> Option<Acl> {
    let (version, entries) = bytes.split_first_chunk::<4>()?;
    if u32::from_le_bytes(*version) != 2 || entries.len() % 8 != 0 {
        return None;
    }
    let entry = |entry: &[u8]| {
        let id = u32::from_le_bytes(entry[4..8].try_into().ok()?);
        let tag = match u16::from_le_bytes([entry[0], entry[1]]) {
            0x01 => Tag::UserObj,
            0x02 => Tag::User(id),
            0x04 => Tag::GroupObj,
            0x08 => Tag::Group(id),
            0x10 => Tag::Mask,
            0x20 => Tag::Other,
            _ => return None,
        };
        Some(AclEntry { tag, perm: entry[2] & 7 })
    };
    Some(Acl::new(entries.chunks_exact(8).map(entry).collect::<Option<_>>()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parses_what_the_kernel_hands_out_and_refuses_the_rest() {
        let mut bytes = vec![2, 0, 0, 0];
        for (tag, perm, id) in [
            (1u16, 7u16, u32::MAX),
            (2, 5, 972),
            (4, 0, u32::MAX),
            (16, 5, u32::MAX),
            (32, 0, u32::MAX),
        ] {
            bytes.extend(tag.to_le_bytes());
            bytes.extend(perm.to_le_bytes());
            bytes.extend(id.to_le_bytes());
        }
        let acl = parse(&bytes).unwrap();
        assert_eq!((acl.perm(Tag::User(972)), acl.mask()), (Some(5), 5));
        assert_eq!(parse(&bytes[..bytes.len() - 1]), None);
        assert_eq!(parse(&[1, 0, 0, 0]), None);
        assert_eq!(parse(&[]), None);
    }
}
