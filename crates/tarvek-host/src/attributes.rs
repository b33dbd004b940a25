//! Extended attributes that decide about access (`xattr(7)`): POSIX ACLs, NFSv4 ACLs and SELinux
//! labels, read without opening the file. POSIX ACLs come as the kernel hands them out
//! (`include/uapi/linux/posix_acl_xattr.h`).

use std::ffi::{CStr, CString};
use std::os::fd::{AsRawFd, BorrowedFd};
use std::sync::Arc;

use nix::sched::{CloneFlags, unshare};
use rustix::io::Errno;
use tarvek_core::facts::classes::Extras;
use tarvek_core::kernel::acl::{Acl, AclEntry, Tag};
use tarvek_core::kernel::entry::EntryKind;
use tarvek_core::kernel::nfs4::Nfs4Acl;

const ACCESS: &CStr = c"system.posix_acl_access";
const DEFAULT: &CStr = c"system.posix_acl_default";
const NFS4: &CStr = c"system.nfs4_acl";
/// The same, where ZFS hands it out.
const NFS4_XDR: &CStr = c"system.nfs4_acl_xdr";
const LABEL: &CStr = c"security.selinux";
const ALL: [&CStr; 5] = [ACCESS, DEFAULT, NFS4, NFS4_XDR, LABEL];

/// The most that an attribute, or the list of their names, can take.
const MOST: usize = 1 << 16;

/// Reads the attributes of entries, with buffers that are used again.
#[derive(Default)]
pub(crate) struct Attributes {
    /// Whether this thread's working folder is its own to change.
    own_folder: bool,
    /// Whether the working folder is the one whose entries are looked at.
    inside: bool,
    /// Attributes that the filesystem of this mount does not know.
    refused: Vec<(u64, &'static CStr)>,
    path: Vec<u8>,
    list: Vec<u8>,
    value: Vec<u8>,
    /// ACLs as the kernel hands them out: of this entry, and of the last one with what they say.
    /// Neighbours mostly have the same.
    acls: [Vec<u8>; 2],
    last: Option<([Vec<u8>; 2], Arc<Extras>)>,
}

impl Attributes {
    /// For a thread that does nothing else. `lgetxattr(2)` takes no handle; a working folder of the
    /// thread's own is the quickest way to say where the name is, and where that is not allowed,
    /// `/proc/self/fd` is another.
    pub(crate) fn of_this_thread() -> Self {
        Self { own_folder: unshare(CloneFlags::CLONE_FS).is_ok(), ..Self::default() }
    }

    /// Entries of this folder come next.
    pub(crate) fn enter(&mut self, folder: BorrowedFd) {
        self.inside = self.own_folder && rustix::process::fchdir(folder).is_ok();
    }

    /// The attributes of a name in the folder. `lists` says whether the filesystem names all of its
    /// attributes when it is asked for their list; where it may not, each is asked for by name.
    pub(crate) fn read(
        &mut self,
        folder: BorrowedFd,
        name: &CStr,
        kind: EntryKind,
        mount: u64,
        lists: bool,
    ) -> Option<Arc<Extras>> {
        let proc_path;
        let path = if self.inside {
            name
        } else {
            proc_path = self.proc_path(folder, name);
            &proc_path
        };
        if !lists {
            return self.each(path, kind, mount);
        }
        // How long the list would be is told at less cost than the list.
        let mut unexplained = match rustix::fs::llistxattr_query(path) {
            Ok(length) if length > 0 => length,
            Ok(_) | Err(_) => return None,
        };
        // Most lists are of ACLs alone, which show by their length.
        for (attribute, acl) in [ACCESS, DEFAULT].into_iter().zip(&mut self.acls) {
            let length = attribute.to_bytes_with_nul().len();
            let likely = applies(attribute, kind) && unexplained >= length;
            if likely && value(path, attribute, acl).is_ok() {
                unexplained -= length;
            } else {
                acl.clear();
            }
        }
        if let Some((_, last)) =
            self.last.as_ref().filter(|(acls, _)| unexplained == 0 && *acls == self.acls)
        {
            return Some(Arc::clone(last));
        }
        let mut extras = Extras::default();
        for (attribute, acl) in [ACCESS, DEFAULT].into_iter().zip(&self.acls) {
            if !acl.is_empty() {
                keep(&mut extras, attribute, acl);
            }
        }
        if unexplained == 0 {
            let extras = Arc::new(extras);
            self.last = Some((self.acls.clone(), Arc::clone(&extras)));
            return Some(extras);
        }
        if listed(path, &mut self.list) {
            for attribute in [NFS4, NFS4_XDR, LABEL] {
                let there = self.list.split(|&b| b == 0).any(|name| name == attribute.to_bytes());
                if there
                    && applies(attribute, kind)
                    && value(path, attribute, &mut self.value).is_ok()
                {
                    keep(&mut extras, attribute, &self.value);
                }
            }
        }
        Some(Arc::new(extras))
    }

    /// Asks for every attribute by its name.
    fn each(&mut self, path: &CStr, kind: EntryKind, mount: u64) -> Option<Arc<Extras>> {
        let mut extras: Option<Extras> = None;
        for attribute in ALL {
            if !applies(attribute, kind) || self.refused.contains(&(mount, attribute)) {
                continue;
            }
            match value(path, attribute, &mut self.value) {
                Ok(()) => keep(extras.get_or_insert_default(), attribute, &self.value),
                Err(Errno::OPNOTSUPP | Errno::NOSYS | Errno::INVAL) => {
                    self.refused.push((mount, attribute));
                }
                Err(_) => {}
            }
        }
        extras.map(Arc::new)
    }

    fn proc_path(&mut self, folder: BorrowedFd, name: &CStr) -> CString {
        self.path.clear();
        self.path.extend_from_slice(format!("/proc/self/fd/{}/", folder.as_raw_fd()).as_bytes());
        self.path.extend_from_slice(name.to_bytes());
        CString::new(self.path.clone()).expect("neither part has a NUL")
    }
}

/// Whether entries of a type can have an attribute.
fn applies(attribute: &CStr, kind: EntryKind) -> bool {
    match kind {
        EntryKind::Folder => true,
        EntryKind::Symlink => attribute == LABEL,
        _ => attribute != DEFAULT,
    }
}

/// Filesystems of the kernel that name every attribute that an entry has. Others (FUSE, network
/// filesystems, ZFS) may keep some of them to themselves.
pub(crate) fn lists_all(filesystem: &str) -> bool {
    matches!(filesystem, "ext2" | "ext3" | "ext4" | "xfs" | "btrfs" | "tmpfs" | "f2fs" | "overlay")
}

/// Puts the names of an entry's attributes into a buffer; whether there are any.
fn listed(path: &CStr, list: &mut Vec<u8>) -> bool {
    list.resize(list.capacity().max(1024), 0);
    let length = match rustix::fs::llistxattr(path, &mut *list) {
        Err(Errno::RANGE) => {
            list.resize(MOST, 0);
            rustix::fs::llistxattr(path, &mut *list)
        }
        length => length,
    };
    list.truncate(length.unwrap_or(0));
    !list.is_empty()
}

fn value(path: &CStr, attribute: &CStr, value: &mut Vec<u8>) -> Result<(), Errno> {
    value.resize(value.capacity().max(1024), 0);
    let length = match rustix::fs::lgetxattr(path, attribute, &mut *value) {
        Err(Errno::RANGE) => {
            value.resize(MOST, 0);
            rustix::fs::lgetxattr(path, attribute, &mut *value)?
        }
        length => length?,
    };
    value.truncate(length);
    Ok(())
}

fn keep(extras: &mut Extras, attribute: &CStr, value: &[u8]) {
    if attribute == ACCESS {
        // Three entries say what the mode says.
        extras.acl = parse(value).filter(|acl| acl.entries().len() > 3);
    } else if attribute == DEFAULT {
        extras.default_acl = parse(value).filter(|acl| !acl.entries().is_empty());
    } else if attribute == LABEL {
        let label = value.strip_suffix(b"\0").unwrap_or(value);
        extras.label = Some(label.to_vec());
    } else {
        extras.nfs4_acl = Some(Nfs4Acl::read(value));
    }
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
            (2, 5, 840),
            (4, 0, u32::MAX),
            (16, 5, u32::MAX),
            (32, 0, u32::MAX),
        ] {
            bytes.extend(tag.to_le_bytes());
            bytes.extend(perm.to_le_bytes());
            bytes.extend(id.to_le_bytes());
        }
        let acl = parse(&bytes).unwrap();
        assert_eq!((acl.perm(Tag::User(840)), acl.mask()), (Some(5), 5));
        assert_eq!(parse(&bytes[..bytes.len() - 1]), None);
        assert_eq!(parse(&[1, 0, 0, 0]), None);
        assert_eq!(parse(&[]), None);
    }
}
