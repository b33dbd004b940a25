//! Who asks: a subject, as a kernel compares it with owners and entries.

use std::fmt;
use std::sync::Arc;

/// The uid and gid of nobody, which a kernel's NFS server gives to squashed requests by default
/// (`exports(5)`), and as which a user namespace shows ids that it does not map
/// (`user_namespaces(7)`).
pub const NOBODY: u32 = 65534;

/// What a process may do whatever the permission bits say (`capabilities(7)`).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default, Hash)]
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

/// A run of ids, its last one included.
type Span = (u32, u32);

/// The owners that a process in a user namespace knows: elsewhere its capabilities do not hold
/// (`user_namespaces(7)`; `capable_wrt_inode_uidgid` in `kernel/capability.c`).
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Realm {
    uids: Vec<Span>,
    gids: Vec<Span>,
    /// Whether the ids are those of an idmapped mount, on which an entry of any other owner can't
    /// be changed at all (`mount_setattr(2)`, ERRORS; `HAS_UNMAPPED_ID` in `fs/namei.c`).
    pub of_mount: bool,
}

impl Realm {
    /// Whether both the owner and the owning group are known here.
    pub fn covers(&self, uid: u32, gid: u32) -> bool {
        self.has_user(uid) && within(&self.gids, gid)
    }

    fn has_user(&self, uid: u32) -> bool {
        within(&self.uids, uid)
    }

    /// What is known of owners that were seen through an idmapped mount: whoever looks like nobody
    /// is not mapped.
    pub fn displayed_on_a_mount() -> Self {
        let all = vec![(0, u32::MAX)];
        Self { uids: all.clone(), gids: all, of_mount: true }.as_displayed()
    }

    /// The same without the ids as which unmapped ones are displayed: for what was seen from the
    /// inside of a namespace.
    pub fn as_displayed(&self) -> Self {
        let without = |spans: &[Span]| {
            spans
                .iter()
                .flat_map(|&(low, high)| {
                    let (before, after) =
                        ((low, high.min(NOBODY - 1)), (low.max(NOBODY + 1), high));
                    [before, after].into_iter().filter(|(low, high)| low <= high)
                })
                .collect()
        };
        Self { uids: without(&self.uids), gids: without(&self.gids), of_mount: self.of_mount }
    }
}

/// One line of an id map (`user_namespaces(7)`).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct IdRange {
    /// First id inside.
    pub inside: u32,
    /// First id outside.
    pub outside: u32,
    /// How many.
    pub count: u32,
}

impl IdRange {
    /// Whether it has ids at all, and none past the last one.
    pub fn fits(&self) -> bool {
        let fits = |first: u32| first.checked_add(self.count.checked_sub(1)?);
        fits(self.inside).and(fits(self.outside)).is_some()
    }
}

/// How a user namespace numbers users and groups (`uid_map` and `gid_map` in `user_namespaces(7)`).
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct IdMap {
    /// Of users.
    pub uids: Vec<IdRange>,
    /// Of groups.
    pub gids: Vec<IdRange>,
}

impl IdMap {
    /// The same ranges for users and groups.
    pub fn both(ranges: Vec<IdRange>) -> Self {
        Self { uids: ranges.clone(), gids: ranges }
    }

    /// A process of the namespace, as the outside sees it.
    ///
    /// # Errors
    /// The first of its ids that is in no range: no process can have it there.
    pub fn shift(&self, subject: &Subject) -> Result<Subject, u32> {
        let uid = outside(&self.uids, subject.uid).ok_or(subject.uid)?;
        let gid = |gid: u32| outside(&self.gids, gid).ok_or(gid);
        let groups: Vec<u32> =
            subject.groups.iter().map(|id| gid(*id)).collect::<Result<_, _>>()?;
        let known = subject.realm.as_deref();
        let realm = Realm {
            uids: spans_outside(&self.uids, known.map(|realm| realm.uids.as_slice())),
            gids: spans_outside(&self.gids, known.map(|realm| realm.gids.as_slice())),
            of_mount: false,
        };
        Ok(Subject {
            capabilities: subject.capabilities,
            token: subject.token,
            realm: Some(Arc::new(realm)),
            doubt: subject.doubt.clone(),
            ..Subject::new(uid, gid(subject.gid)?, groups)
        })
    }

    /// A process of the namespace whose ids are those of the outside already: its capabilities hold
    /// over what is mapped.
    pub fn bound(&self, subject: Subject) -> Subject {
        let realm = Realm {
            uids: spans_outside(&self.uids, None),
            gids: spans_outside(&self.gids, None),
            of_mount: false,
        };
        Subject { realm: Some(Arc::new(realm)), ..subject }
    }

    /// A process of the namespace on a mount that is idmapped to it: the files look as if they were
    /// numbered from the inside.
    pub fn on_idmapped_mount(&self, subject: &Subject) -> Subject {
        let inside = |ranges: &[IdRange]| {
            ranges.iter().map(|range| span(range.inside, range.count)).collect()
        };
        let realm = Realm { uids: inside(&self.uids), gids: inside(&self.gids), of_mount: true };
        Subject { realm: Some(Arc::new(realm)), ..subject.clone() }
    }

    /// The realm of a process that sees the namespace from its inside.
    pub fn from_inside(&self, subject: &Subject) -> Subject {
        let mut inside = self.on_idmapped_mount(subject);
        let realm =
            inside.realm.as_deref().map(|realm| Realm { of_mount: false, ..realm.as_displayed() });
        inside.realm = realm.map(Arc::new);
        inside
    }
}

fn within(spans: &[Span], id: u32) -> bool {
    spans.iter().any(|(low, high)| (*low..=*high).contains(&id))
}

fn span(first: u32, count: u32) -> Span {
    (first, first.saturating_add(count.saturating_sub(1)))
}

pub(crate) fn outside(ranges: &[IdRange], id: u32) -> Option<u32> {
    ranges.iter().find_map(|range| {
        let offset = id.checked_sub(range.inside).filter(|offset| *offset < range.count)?;
        range.outside.checked_add(offset)
    })
}

/// Where the ids of some spans (all, if none are given) lie outside.
fn spans_outside(ranges: &[IdRange], of: Option<&[Span]>) -> Vec<Span> {
    let all = [(0, u32::MAX)];
    let of = of.unwrap_or(&all);
    ranges
        .iter()
        .filter(|range| range.count > 0)
        .flat_map(|range| {
            let (first, last) = span(range.inside, range.count);
            of.iter().filter_map(move |&(low, high)| {
                let (low, high) = (low.max(first), high.min(last));
                let shifted = |id: u32| range.outside.saturating_add(id - first);
                (low <= high).then(|| (shifted(low), shifted(high)))
            })
        })
        .collect()
}

/// Where the token that an SMB server makes for a session says less than the ids under which it
/// runs: a forced group is put in the place of the SID that stands second in it, whatever that is
/// (`set_conn_force_user_group` in smbd).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default, Hash)]
pub struct Token {
    /// The primary group that is missing.
    pub without_group: Option<u32>,
    /// Whether everyone's SID is missing, as from a guest's token.
    pub without_everyone: bool,
}

/// A user id, a group id, further groups and capabilities, at one place of a route.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Subject {
    /// Effective user id.
    pub uid: u32,
    /// Effective group id.
    pub gid: u32,
    /// Supplementary group ids, without `gid`.
    pub groups: Vec<u32>,
    pub capabilities: Capabilities,
    /// Over whose files they hold; `None` means over all.
    pub realm: Option<Arc<Realm>>,
    /// What an SMB server that checks by itself, besides its kernel, does not count for them.
    pub token: Token,
    /// Why it isn't certain who this is; then nothing that depends on it can be told.
    pub doubt: Option<Arc<str>>,
    /// Of a process whose account nobody declares: why it may be root, as written here, or nobody.
    /// What both are answered alike holds, and nothing else.
    pub undeclared: Option<Arc<str>>,
}

impl Subject {
    /// A subject with the capabilities that its uid has by default: all for 0, none for others.
    pub fn new(uid: u32, gid: u32, groups: impl IntoIterator<Item = u32>) -> Self {
        let mut groups: Vec<u32> = groups.into_iter().filter(|group| *group != gid).collect();
        groups.sort_unstable();
        groups.dedup();
        let capabilities = if uid == 0 { Capabilities::ROOT } else { Capabilities::default() };
        Self {
            uid,
            gid,
            groups,
            capabilities,
            realm: None,
            token: Token::default(),
            doubt: None,
            undeclared: None,
        }
    }

    /// A process with these further groups of which nobody declares whom it runs as: root, or
    /// somebody without any right of their own.
    pub fn root_or_nobody(groups: impl IntoIterator<Item = u32>, why: impl Into<Arc<str>>) -> Self {
        Self { undeclared: Some(why.into()), ..Self::new(0, 0, groups) }
    }

    /// Who else this may be, and why; `None` for whoever is declared.
    pub fn otherwise(&self) -> Option<(Self, &str)> {
        let why = self.undeclared.as_deref()?;
        Some((Self::new(NOBODY, NOBODY, self.groups.iter().copied()), why))
    }

    /// The same without what else it may be.
    pub fn settled(&self) -> Self {
        Self { undeclared: None, ..self.clone() }
    }

    /// Somebody of whom it isn't known who it is.
    pub fn unknown(why: impl Into<Arc<str>>) -> Self {
        Self { doubt: Some(why.into()), ..Self::new(NOBODY, NOBODY, []) }
    }

    /// Whether it is a member of a group, primary or supplementary.
    pub fn is_in(&self, gid: u32) -> bool {
        self.gid == gid || self.groups.contains(&gid)
    }

    /// Whether its capabilities hold over what this owner and group have.
    pub fn rules_over(&self, uid: u32, gid: u32) -> bool {
        self.realm.as_deref().is_none_or(|realm| realm.covers(uid, gid))
    }

    /// Whether its capabilities hold over what this owner has, where no group is asked for
    /// (`inode_owner_or_capable` in `fs/inode.c`).
    pub fn rules_over_owner(&self, uid: u32) -> bool {
        self.realm.as_deref().is_none_or(|realm| realm.has_user(uid))
    }

    /// Whether an idmapped mount keeps it from changing what this owner and group have.
    pub fn bars_change(&self, uid: u32, gid: u32) -> bool {
        self.realm.as_deref().is_some_and(|realm| realm.of_mount && !realm.covers(uid, gid))
    }
}

impl fmt::Display for Subject {
    /// `840:840 +2100`, or that nobody knows who it is.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.doubt.is_some() && self.uid == NOBODY {
            return f.write_str("somebody unknown");
        }
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

    fn range(inside: u32, outside: u32, count: u32) -> IdRange {
        IdRange { inside, outside, count }
    }

    #[test]
    fn namespaces_shift_ids_and_bound_capabilities_also_when_they_nest() {
        let inner = IdMap::both(vec![range(0, 1000, 10), range(10, 5000, 5)]);
        let outer = IdMap::both(vec![range(0, 100_000, 3000), range(5000, 200_000, 2)]);
        let once = inner.shift(&Subject::new(0, 12, [3])).unwrap();
        assert_eq!(once.to_string(), "1000:5002 +1003");
        assert!(once.capabilities.dac_override);
        for (uid, gid, known) in [(1000, 5004, true), (1000, 5005, false), (0, 1000, false)] {
            assert_eq!(once.rules_over(uid, gid), known, "{uid}:{gid}");
        }
        assert_eq!(outer.shift(&once), Err(5002));
        let twice = outer.shift(&inner.shift(&Subject::new(0, 11, [])).unwrap()).unwrap();
        assert_eq!(twice.to_string(), "101000:200001");
        for (uid, gid, known) in
            [(101_009, 200_001, true), (101_010, 200_001, false), (101_000, 200_002, false)]
        {
            assert_eq!(twice.rules_over(uid, gid), known, "{uid}:{gid}");
        }
        assert_eq!(inner.shift(&Subject::new(15, 0, [])), Err(15));
    }

    #[test]
    fn an_idmapped_mount_keeps_the_numbers_and_bars_strangers() {
        let map = IdMap::both(vec![range(0, 100_000, 65_536)]);
        let on = map.on_idmapped_mount(&Subject::new(840, 840, []));
        assert_eq!(on.to_string(), "840:840");
        assert!(on.bars_change(70_000, 840) && !on.bars_change(840, 0));
        let inside = map.from_inside(&Subject::new(0, 0, []));
        assert!(inside.rules_over(0, 840) && !inside.rules_over(NOBODY, 0), "{inside:?}");
        assert!(!inside.bars_change(NOBODY, 0));
    }
}
