//! Who asks: a subject, as a kernel compares it with owners and entries.

use std::fmt;

use crate::layout::{NfsExport, Squash};

/// The uid and gid of nobody, which a kernel's NFS server gives to squashed requests by default (`exports(5)`).
pub const NOBODY: u32 = 65534;

/// What a process may do whatever the permission bits say (`capabilities(7)`).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Capabilities {
    /// CAP_DAC_OVERRIDE: read, write and search anything; execute a file that has one x bit.
    pub dac_override: bool,
    /// CAP_DAC_READ_SEARCH: read anything, search any folder.
    pub dac_read_search: bool,
    /// CAP_FOWNER: passes the sticky bit.
    pub fowner: bool,
}

impl Capabilities {
    /// What root has.
    pub const ROOT: Self = Self { dac_override: true, dac_read_search: true, fowner: true };
}

/// A user id, a group id, further groups and capabilities, at one place of a route.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Subject {
    /// Effective user id.
    pub uid: u32,
    /// Effective group id.
    pub gid: u32,
    /// Supplementary group ids, without `gid`.
    pub groups: Vec<u32>,
    /// Capabilities.
    pub capabilities: Capabilities,
}

impl Subject {
    /// A subject with the capabilities that its uid has by default: all for 0, none for others.
    pub fn new(uid: u32, gid: u32, groups: impl IntoIterator<Item = u32>) -> Self {
        let mut groups: Vec<u32> = groups.into_iter().filter(|group| *group != gid).collect();
        groups.sort_unstable();
        groups.dedup();
        let capabilities = if uid == 0 { Capabilities::ROOT } else { Capabilities::default() };
        Self { uid, gid, groups, capabilities }
    }

    /// What an NFS server with AUTH_SYS sees of this subject through an export (`exports(5)`): squashing replaces uid 0,
    /// gid 0 and supplementary gid 0 each by itself. A server does not extend a capability that the client had.
    pub fn over_nfs(&self, export: &NfsExport) -> Self {
        let (anonuid, anongid) =
            (export.anonuid.unwrap_or(NOBODY), export.anongid.unwrap_or(NOBODY));
        let gid = |gid: u32| if gid == 0 { anongid } else { gid };
        match export.squash {
            Squash::None => self.clone(),
            Squash::All => Self::new(anonuid, anongid, []),
            Squash::Root => {
                let uid = if self.uid == 0 { anonuid } else { self.uid };
                Self::new(uid, gid(self.gid), self.groups.iter().copied().map(gid))
            }
        }
    }

    /// Whether it is a member of a group, primary or supplementary.
    pub fn is_in(&self, gid: u32) -> bool {
        self.gid == gid || self.groups.contains(&gid)
    }
}

impl fmt::Display for Subject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.uid, self.gid)?;
        for (n, group) in self.groups.iter().enumerate() {
            write!(f, "{}{group}", if n == 0 { " +" } else { "," })?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::layout::Mode;

    #[test]
    fn squashing_replaces_each_id_by_itself() {
        let export = |squash| NfsExport {
            clients: "*".into(),
            access: Mode::ReadOnly,
            squash,
            anonuid: Some(900),
            anongid: None,
            crossmnt: false,
            options: vec![],
        };
        for (squash, subject, seen) in [
            (Squash::Root, Subject::new(0, 0, [0, 7]), "900:65534 +7"),
            (Squash::Root, Subject::new(1000, 0, [5]), "1000:65534 +5"),
            (Squash::Root, Subject::new(1000, 5, [0]), "1000:5 +65534"),
            (Squash::All, Subject::new(1000, 5, [6]), "900:65534"),
            (Squash::None, Subject::new(0, 0, []), "0:0"),
        ] {
            assert_eq!(subject.over_nfs(&export(squash)).to_string(), seen, "{subject}");
        }
    }
}
