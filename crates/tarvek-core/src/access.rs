//! The access decision: may this subject do this to this entry, and what decides?
//!
//! [`decide`] is the kernel's check on one object (`path_resolution(7)`, `acl(5)`); [`judge`] puts it together along a
//! route: search on every folder on the way, read-only layers, then the need itself.

use crate::acl::{Acl, Tag, perm_text};
use crate::facts::tree::{EntryKind, Listing, Meta, NodeId, Tree};
use crate::identity::Subject;
use crate::layout::Mode;
use crate::path::AbsPath;
use crate::route::{End, Evidence, Layer, Route, Step, follow};
use crate::site::Site;

/// Read permission.
pub const R: u8 = 4;
/// Write permission.
pub const W: u8 = 2;
/// Execute or search permission.
pub const X: u8 = 1;

/// What decided on one object.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Decider {
    /// A capability.
    Capability(&'static str),
    /// The owner's bits.
    Owner,
    /// An ACL entry for this user.
    NamedUser(u32),
    /// A group's bits or ACL entry, for membership in this group.
    Group(u32),
    /// The bits of everyone else.
    Other,
    /// No x bit is set at all, which even root needs to execute a file.
    NoExecuteBit,
}

/// The outcome on one object.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Decision {
    /// Whether all that was asked is granted.
    pub allowed: bool,
    /// What decided.
    pub by: Decider,
    /// The permission that the deciding entry has, mask applied.
    pub perm: u8,
}

/// The kernel's check of `want` (bits [`R`], [`W`], [`X`]) on one object: the class that matches first decides alone;
/// among matching group entries of an ACL one must grant everything; capabilities come last.
pub fn decide(meta: &Meta, acl: Option<&Acl>, subject: &Subject, want: u8) -> Decision {
    let plain = without_capabilities(meta, acl, subject, want);
    if plain.allowed {
        return plain;
    }
    let caps = subject.capabilities;
    let by = |name| Decision { allowed: true, by: Decider::Capability(name), perm: want };
    let folder = meta.kind == EntryKind::Folder;
    if caps.dac_read_search && (want == R || folder && want & W == 0) {
        return by("CAP_DAC_READ_SEARCH");
    }
    if caps.dac_override {
        if folder || want & X == 0 || meta.mode & 0o111 != 0 {
            return by("CAP_DAC_OVERRIDE");
        }
        return Decision { allowed: false, by: Decider::NoExecuteBit, perm: R | W };
    }
    plain
}

fn without_capabilities(meta: &Meta, acl: Option<&Acl>, subject: &Subject, want: u8) -> Decision {
    let class = |shift: u16| ((meta.mode >> shift) & 7) as u8;
    let outcome = |by, perm: u8| Decision { allowed: perm & want == want, by, perm };
    if subject.uid == meta.uid {
        return outcome(Decider::Owner, class(6));
    }
    // With an ACL the mode's group bits are its mask, and where they are all zero Linux never looks at the ACL
    // (fs/namei.c, acl_permission_check): members of the owning group get nothing, all others the other bits.
    if let Some(acl) = acl.filter(|_| class(3) != 0) {
        return by_acl(acl, meta, subject, want);
    }
    if subject.is_in(meta.gid) {
        return outcome(Decider::Group(meta.gid), class(3));
    }
    outcome(Decider::Other, class(0))
}

fn by_acl(acl: &Acl, meta: &Meta, subject: &Subject, want: u8) -> Decision {
    let mask = acl.mask();
    let mut denied_group = None;
    for entry in acl.entries() {
        let (by, perm) = match entry.tag {
            Tag::User(uid) if uid == subject.uid => (Decider::NamedUser(uid), entry.perm & mask),
            Tag::GroupObj if subject.is_in(meta.gid) => {
                (Decider::Group(meta.gid), entry.perm & mask)
            }
            Tag::Group(gid) if subject.is_in(gid) => (Decider::Group(gid), entry.perm & mask),
            _ => continue,
        };
        let decision = Decision { allowed: perm & want == want, by, perm };
        if decision.allowed || matches!(by, Decider::NamedUser(_)) {
            return decision;
        }
        denied_group.get_or_insert(decision);
    }
    denied_group.unwrap_or_else(|| {
        let perm = acl.perm(Tag::Other).unwrap_or(0);
        Decision { allowed: perm & want == want, by: Decider::Other, perm }
    })
}

impl Decision {
    /// The deciding entry in the notation of `acl(5)`: `group::r-x via gid 2100`.
    pub fn entry(&self, meta: &Meta) -> String {
        let perm = perm_text(self.perm);
        match self.by {
            Decider::Capability(name) => name.to_owned(),
            Decider::Owner => format!("user::{perm} as the owner, uid {}", meta.uid),
            Decider::NamedUser(uid) => format!("user:{uid}:{perm}"),
            Decider::Group(gid) if gid == meta.gid => format!("group::{perm} via gid {gid}"),
            Decider::Group(gid) => format!("group:{gid}:{perm} via gid {gid}"),
            Decider::Other => format!("other::{perm}"),
            Decider::NoExecuteBit => "no execute bit is set".to_owned(),
        }
    }
}

/// What is asked at a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Need {
    /// File: open to read. Folder: list and enter.
    Read,
    /// File: open to write. Folder: as `Add`.
    Write,
    /// Folder: search.
    Enter,
    /// Make an entry in this folder.
    Add,
    /// Unlink this path from its folder.
    Remove,
}

impl Need {
    /// All needs, in the order in which they are shown.
    pub const ALL: [Self; 5] = [Self::Read, Self::Write, Self::Enter, Self::Add, Self::Remove];

    /// As the command line and JSON write it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Read => "read",
            Self::Write => "write",
            Self::Enter => "enter",
            Self::Add => "add",
            Self::Remove => "remove",
        }
    }

    /// Whether it makes sense for an entry of this kind; `write` in a folder is `add`, so it is left out there.
    pub fn applies_to(self, kind: EntryKind) -> bool {
        match self {
            Self::Read | Self::Remove => true,
            Self::Write => kind != EntryKind::Folder,
            Self::Enter | Self::Add => kind == EntryKind::Folder,
        }
    }
}

/// A verdict on one need along a route.
#[derive(Clone, Debug, PartialEq)]
pub struct Verdict {
    /// What was asked.
    pub need: Need,
    /// `None` where it can't be told.
    pub allowed: Option<bool>,
    /// How it is known.
    pub evidence: Evidence,
    /// The first place that denies, or the place that allows; its host and path there.
    pub decided_at: (String, AbsPath),
    /// The layer and entry that decide, in words.
    pub reason: String,
    /// What the kernel would answer, if it is denied.
    pub errno: Option<&'static str>,
}

/// Judges one need at the end of a route.
pub fn judge(site: &Site, route: &Route, need: Need) -> Verdict {
    let mut judge = Judge { site, route, need };
    judge.verdict()
}

struct Judge<'a> {
    site: &'a Site,
    route: &'a Route,
    need: Need,
}

impl Judge<'_> {
    fn outcome(
        &self,
        allowed: Option<bool>,
        step: &Step,
        reason: String,
        errno: Option<&'static str>,
    ) -> Verdict {
        Verdict {
            need: self.need,
            allowed,
            evidence: if step.node.is_some() { Evidence::Observed } else { Evidence::Declared },
            decided_at: (step.host.clone(), step.path.clone()),
            reason,
            errno,
        }
    }

    fn unknown(&self, step: &Step, reason: String) -> Verdict {
        self.outcome(None, step, reason, None)
    }

    fn verdict(&mut self) -> Verdict {
        let (last, above) = match &self.route.end {
            End::Reached => self.route.trail.split_last().expect("a reached route has steps"),
            // What lies before the break is still decided: a folder that can't be searched hides the rest.
            _ => match self.route.trail.split_last() {
                Some(_) => return self.broken(),
                None => {
                    let place = self.route.here();
                    return Verdict {
                        need: self.need,
                        allowed: Some(false),
                        evidence: Evidence::Declared,
                        decided_at: place,
                        reason: self.route.end.words(),
                        errno: Some("ENOENT"),
                    };
                }
            },
        };
        if let Err(verdict) = self.search(above) {
            return *verdict;
        }
        let Some(node) = last.node else {
            return self.unknown(last, format!("{} was not seen", last.path));
        };
        let Some(tree) = self.site.tree(&last.seen_on) else {
            return self.unknown(last, format!("nothing is known of {}", last.host));
        };
        let meta = tree.meta(node);
        let folder = meta.kind == EntryKind::Folder;
        match self.need {
            // Listing and entering are two requests, each of which another group may grant.
            Need::Read if folder => match self.object(tree, last, node, X) {
                verdict if verdict.allowed == Some(false) => verdict,
                _ => self.object(tree, last, node, R),
            },
            Need::Read => self.object(tree, last, node, R),
            Need::Enter if !folder => self.not_a_folder(last),
            Need::Enter => self.object(tree, last, node, X),
            Need::Add if !folder => self.not_a_folder(last),
            Need::Add => self.object(tree, last, node, W | X),
            Need::Write if folder => self.object(tree, last, node, W | X),
            Need::Write => self.object(tree, last, node, W),
            Need::Remove => self.remove(tree, last, node, above.last()),
        }
    }

    fn not_a_folder(&self, step: &Step) -> Verdict {
        self.outcome(Some(false), step, "it is not a folder".into(), Some("ENOTDIR"))
    }

    fn broken(&self) -> Verdict {
        let trail = &self.route.trail;
        if let Err(verdict) = self.search(trail) {
            return *verdict;
        }
        let last = trail.last().expect("checked by the caller");
        match &self.route.end {
            End::Unseen { .. } => self.unknown(last, self.route.end.words()),
            end => self.outcome(Some(false), last, end.words(), Some(end.errno())),
        }
    }

    /// Search permission on every folder of the way.
    fn search(&self, folders: &[Step]) -> Result<(), Box<Verdict>> {
        for step in folders {
            let Some((tree, node)) =
                step.node.and_then(|n| Some((self.site.tree(&step.seen_on)?, n)))
            else {
                continue;
            };
            let meta = tree.meta(node);
            if meta.kind != EntryKind::Folder {
                continue;
            }
            let decision = decide(&meta, tree.acl(node), &step.subject, X);
            if !decision.allowed {
                let reason = self.denied_words(step, &meta, &decision, "search it");
                return Err(Box::new(self.outcome(Some(false), step, reason, Some("EACCES"))));
            }
        }
        // A folder whose rights nobody saw may deny; then nothing can be promised.
        match folders.iter().find(|step| step.node.is_none()) {
            Some(step) => Err(Box::new(self.unknown(step, format!("{} was not seen", step.path)))),
            None => Ok(()),
        }
    }

    fn denied_words(&self, step: &Step, meta: &Meta, decision: &Decision, what: &str) -> String {
        let entry = decision.entry(meta);
        let name = self.site.owner_text(&step.seen_on, meta);
        format!("{entry} does not let {} {what} (mode {:04o} {name})", step.subject, meta.mode)
    }

    /// One request on the object itself. What comes first is what the kernel comes to first (`fs/namei.c`, `may_open`,
    /// `may_create`): creating asks for a writable mount before anything else, opening for writing asks for it last.
    fn object(&self, tree: &Tree, step: &Step, node: NodeId, want: u8) -> Verdict {
        let meta = tree.meta(node);
        let folder = meta.kind == EntryKind::Folder;
        let writes = want & W != 0;
        // FIFOs, sockets and devices stay writable on a read-only filesystem: their contents are elsewhere.
        let stored = folder || meta.kind == EntryKind::File;
        let first = |layer: &Layer| folder || layer.filesystem;
        // A name in a folder is looked up there before anything is made.
        if writes && folder {
            let decision = decide(&meta, tree.acl(node), &step.subject, X);
            if !decision.allowed {
                let reason = self.denied_words(step, &meta, &decision, "enter it");
                return self.outcome(Some(false), step, reason, Some("EACCES"));
            }
        }
        if let Some(verdict) = self.read_only(step, first).filter(|_| writes && stored) {
            return verdict;
        }
        let flags = meta.flags.unwrap_or_default();
        if writes && flags.immutable {
            return self.flagged(step, "it is immutable (chattr +i)");
        }
        let decision = decide(&meta, tree.acl(node), &step.subject, want);
        if !decision.allowed {
            let what = match (writes, folder) {
                (true, true) => "add to it",
                (true, false) => "write it",
                (false, true) if want == X => "enter it",
                (false, true) => "list it",
                (false, false) => "read it",
            };
            let reason = self.denied_words(step, &meta, &decision, what);
            return self.outcome(Some(false), step, reason, Some("EACCES"));
        }
        if writes && !folder && flags.append {
            return self.flagged(step, "it may only grow (chattr +a)");
        }
        if let Some(verdict) = self.read_only(step, |_| true).filter(|_| writes && stored) {
            return verdict;
        }
        self.outcome(Some(true), step, decision.entry(&meta), None)
    }

    /// What even root is refused (`ioctl_iflags(2)`).
    fn flagged(&self, step: &Step, why: &str) -> Verdict {
        self.outcome(Some(false), step, why.to_owned(), Some("EPERM"))
    }

    fn read_only(&self, step: &Step, which: impl Fn(&Layer) -> bool) -> Option<Verdict> {
        self.read_only_on(&self.route.layers, step, which)
    }

    fn read_only_on(
        &self,
        layers: &[Layer],
        step: &Step,
        which: impl Fn(&Layer) -> bool,
    ) -> Option<Verdict> {
        let layer = layers.iter().find(|layer| layer.mode == Mode::ReadOnly && which(layer))?;
        let reason = format!("{} is read-only", layer.what);
        let mut verdict = self.outcome(Some(false), step, reason, Some("EROFS"));
        verdict.decided_at = (layer.host.clone(), layer.path.clone());
        Some(verdict)
    }

    fn remove(&self, tree: &Tree, last: &Step, node: NodeId, parent: Option<&Step>) -> Verdict {
        let busy = |why: &str| self.outcome(Some(false), last, why.to_owned(), Some("EBUSY"));
        let Some((step, folder)) = parent.and_then(|step| Some((step, step.node?))) else {
            return busy("it is the root of the view");
        };
        // What is attached exactly here is no part of the folder that it would be removed from.
        let outside = self
            .route
            .asked
            .parent()
            .filter(|_| last.attached)
            .map(|parent| follow(self.site, &self.route.view, &parent, &self.route.subject));
        let layers = outside.as_ref().map_or(&self.route.layers, |outside| &outside.layers);
        if let Some(verdict) = self.read_only_on(layers, step, |_| true) {
            return verdict;
        }
        let (meta, above) = (tree.meta(node), tree.meta(folder));
        let (flags, above_flags) =
            (meta.flags.unwrap_or_default(), above.flags.unwrap_or_default());
        if above_flags.immutable {
            return self.flagged(step, "the folder is immutable (chattr +i)");
        }
        let decision = decide(&above, tree.acl(folder), &step.subject, W | X);
        if !decision.allowed {
            let reason = self.denied_words(step, &above, &decision, "remove from it");
            return self.outcome(Some(false), step, reason, Some("EACCES"));
        }
        if above_flags.append {
            return self.flagged(step, "the folder may only grow (chattr +a)");
        }
        let subject = &step.subject;
        let owns = subject.uid == meta.uid || subject.uid == above.uid;
        if above.mode & 0o1000 != 0 && !owns && !subject.capabilities.fowner {
            let reason = format!(
                "the folder is sticky, and {subject} owns neither it nor the entry (uid {})",
                meta.uid
            );
            return self.outcome(Some(false), step, reason, Some("EPERM"));
        }
        if flags.immutable || flags.append {
            let which = if flags.immutable { "+i" } else { "+a" };
            return self.flagged(last, &format!("it may not be removed (chattr {which})"));
        }
        if last.attached {
            return busy("something is mounted or mapped here");
        }
        if meta.kind == EntryKind::Folder {
            if tree.children(node).len() > 0 {
                let reason = "it is not empty".to_owned();
                return self.outcome(Some(false), last, reason, Some("ENOTEMPTY"));
            }
            if tree.listing(node) != Listing::Complete {
                return self.unknown(last, "whether it is empty was not seen".to_owned());
            }
        }
        self.outcome(Some(true), step, decision.entry(&above), None)
    }
}
