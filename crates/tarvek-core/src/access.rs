//! The access decision: may this subject do this to this entry, and what decides?
//!
//! [`decide`] is the kernel's check on one object (`path_resolution(7)`, `acl(5)`); [`judge`] puts it together along a
//! route: search on every folder on the way, read-only layers, then the need itself.

use std::sync::Arc;

use crate::acl::{Acl, AclEntry, Tag, perm_text};
use crate::facts::tree::{EntryKind, Listing, Meta, NodeId};
use crate::identity::{Subject, Token};
use crate::layout::Mode;
use crate::nfs4::{self, Nfs4Acl, Settled};
use crate::object::{Object, Objects};
use crate::path::AbsPath;
use crate::route::{End, Evidence, HopKind, Layer, Route, Step, follow, follow_to_name};
use crate::site::Site;
use crate::smb::Gate;

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
    /// An entry of the NFSv4 ACL, by its place in it.
    Ace(usize),
    /// No entry of the NFSv4 ACL allows all of it.
    NoAce,
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
/// among matching group entries of an ACL one must grant everything; an NFSv4 ACL settles bit by bit; capabilities come last,
/// where they hold.
pub fn decide(object: &Object, subject: &Subject, want: u8) -> Decision {
    let meta = &object.meta;
    let plain = match &object.nfs4 {
        Some(acl) => by_nfs4(acl, meta, subject, nfs4_bits(want), want),
        None => match without_capabilities(object, subject, want) {
            // What is read, written or made in a folder the server checks as well; passing through it leaves to the kernel.
            plain if plain.allowed && subject.token != Token::default() => {
                let asked = want & (R | W);
                Decision { allowed: granted_together(object, subject) & asked == asked, ..plain }
            }
            plain => plain,
        },
    };
    if plain.allowed || !subject.rules_over(meta.uid, meta.gid) {
        return plain;
    }
    let caps = subject.capabilities;
    let by = |name| Decision { allowed: true, by: Decider::Capability(name), perm: want };
    let folder = object.is_folder();
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

fn without_capabilities(object: &Object, subject: &Subject, want: u8) -> Decision {
    let meta = &object.meta;
    let class = |shift: u16| ((meta.mode >> shift) & 7) as u8;
    let outcome = |by, perm: u8| Decision { allowed: perm & want == want, by, perm };
    if subject.uid == meta.uid {
        return outcome(Decider::Owner, class(6));
    }
    // With an ACL the mode's group bits are its mask, and where they are all zero Linux never looks at the ACL
    // (fs/namei.c, acl_permission_check): members of the owning group get nothing, all others the other bits.
    if let Some(acl) = object.acl.as_deref().filter(|_| class(3) != 0) {
        return by_acl(acl, meta, subject, want);
    }
    if subject.is_in(meta.gid) {
        return outcome(Decider::Group(meta.gid), class(3));
    }
    outcome(Decider::Other, class(0))
}

/// What somebody is granted by all entries that speak of him together, as an SMB server counts it by the SIDs of his token.
pub(crate) fn granted_together(object: &Object, subject: &Subject) -> u8 {
    let acl = object.full_acl();
    let mask = acl.mask();
    let token = subject.token;
    let member = |gid| subject.is_in(gid) && token.without_group != Some(gid);
    let grants = |entry: &AclEntry| match entry.tag {
        Tag::UserObj if subject.uid == object.meta.uid => entry.perm,
        Tag::User(uid) if subject.uid == uid => entry.perm & mask,
        Tag::GroupObj if member(object.meta.gid) => entry.perm & mask,
        Tag::Group(gid) if member(gid) => entry.perm & mask,
        Tag::Other if !token.without_everyone => entry.perm,
        _ => 0,
    };
    acl.entries().iter().fold(0, |all, entry| all | grants(entry))
}

/// The bits of an NFSv4 ACL that a request needs (RFC 8881, section 6.2.1.3.2).
fn nfs4_bits(want: u8) -> u32 {
    [(R, nfs4::READ), (W, nfs4::WRITE), (X, nfs4::EXECUTE)]
        .into_iter()
        .filter(|(bit, _)| want & bit != 0)
        .fold(0, |all, (_, bit)| all | bit)
}

fn by_nfs4(acl: &Nfs4Acl, meta: &Meta, subject: &Subject, bits: u32, want: u8) -> Decision {
    match acl.settle(meta, subject, bits) {
        Settled::Allowed(n) => Decision { allowed: true, by: Decider::Ace(n), perm: want },
        Settled::Denied(n) => Decision { allowed: false, by: Decider::Ace(n), perm: 0 },
        Settled::Open => Decision { allowed: false, by: Decider::NoAce, perm: 0 },
    }
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
    pub fn entry(&self, object: &Object) -> String {
        let (meta, perm) = (&object.meta, perm_text(self.perm));
        match self.by {
            Decider::Capability(name) => name.to_owned(),
            Decider::Owner => format!("user::{perm} as the owner, uid {}", meta.uid),
            Decider::NamedUser(uid) => format!("user:{uid}:{perm}"),
            Decider::Group(gid) if gid == meta.gid => format!("group::{perm} via gid {gid}"),
            Decider::Group(gid) => format!("group:{gid}:{perm} via gid {gid}"),
            Decider::Other => format!("other::{perm}"),
            Decider::NoExecuteBit => "no execute bit is set".to_owned(),
            Decider::Ace(n) => {
                let entry = object.nfs4.as_ref().and_then(|acl| acl.entries().get(n));
                entry.map(ToString::to_string).unwrap_or_default()
            }
            Decider::NoAce => "no entry of the NFSv4 ACL".to_owned(),
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

    /// What is asked of an entry that somebody else has made.
    pub fn of_made(object: &Object) -> &'static [Self] {
        if object.is_folder() {
            &[Self::Read, Self::Add, Self::Remove]
        } else {
            &[Self::Read, Self::Write, Self::Remove]
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
    /// What refuses, where something can be done about it.
    pub refusal: Option<Refusal>,
}

/// What refuses a need.
#[derive(Clone, Debug, PartialEq)]
pub enum Refusal {
    /// The permissions of an entry.
    Permission {
        /// The host whose facts show it.
        host: String,
        /// The entry.
        node: NodeId,
        /// Who asked.
        subject: Subject,
        /// What of [`R`], [`W`] and [`X`] he asked.
        want: u8,
    },
    /// A layer that is read-only as a whole.
    ReadOnly(Layer),
    /// The options of an SMB mount.
    Options(Arc<Gate>, u8),
    /// An inode flag.
    Flag {
        /// The host whose facts show the entry.
        host: String,
        /// The entry.
        node: NodeId,
    },
    /// The sticky bit.
    Sticky {
        /// The host whose facts show the folder.
        host: String,
        /// The folder.
        node: NodeId,
    },
}

/// Judges one need at the end of a route.
pub fn judge(site: &Site, route: &Route, need: Need) -> Verdict {
    // What is removed is the name, also where it is a symlink's (unlink(2)).
    let linked = route.hops.iter().any(|hop| hop.kind == HopKind::Symlink);
    if need == Need::Remove && linked {
        let name = follow_to_name(site, &route.view, &route.asked, &route.subject);
        return Judge { site, route: &name, need }.verdict();
    }
    Judge { site, route, need }.verdict()
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
            refusal: None,
        }
    }

    fn unknown(&self, step: &Step, reason: String) -> Verdict {
        self.outcome(None, step, reason, None)
    }

    fn verdict(&self) -> Verdict {
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
                        errno: Some(self.route.end.errno()),
                        refusal: None,
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
        let Some(objects) = self.site.objects(&last.seen_on) else {
            return self.unknown(last, format!("nothing is known of {}", last.host));
        };
        let object = objects.of(node);
        let folder = object.is_folder();
        match self.need {
            Need::Read => self.read(last, &object),
            Need::Enter if !folder => self.not_a_folder(last),
            Need::Enter => self.object(last, &object, X),
            Need::Add if !folder => self.not_a_folder(last),
            Need::Add => self.object(last, &object, W | X),
            Need::Write if folder => self.object(last, &object, W | X),
            Need::Write => self.object(last, &object, W),
            Need::Remove => self.remove(objects, last, node, above.last()),
        }
    }

    /// Listing and entering a folder are two requests, each of which another group may grant.
    fn read(&self, step: &Step, object: &Object) -> Verdict {
        if object.is_folder() {
            let entered = self.object(step, object, X);
            if entered.allowed != Some(true) {
                return entered;
            }
        }
        self.object(step, object, R)
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
            let object = step.node.and_then(|node| self.site.object(&step.seen_on, node));
            if let Some(object) = object.filter(Object::is_folder) {
                self.asks(step, &object, X, "search it")?;
            }
        }
        // A folder whose rights nobody saw may deny; then nothing can be promised.
        match folders.iter().find(|step| step.node.is_none()) {
            Some(step) => Err(Box::new(self.unknown(step, format!("{} was not seen", step.path)))),
            None => Ok(()),
        }
    }

    /// One request for an entry, of all who have a say: what a client's mount options allow, then the entry itself.
    fn asks(
        &self,
        step: &Step,
        object: &Object,
        want: u8,
        what: &str,
    ) -> Result<Decision, Box<Verdict>> {
        self.lets_through(step, object, want, what)?;
        if let Some(doubt) = &step.subject.doubt {
            return Err(Box::new(self.unknown(step, doubt.to_string())));
        }
        if object.nfs4.as_ref().is_some_and(|acl| !acl.is_understood()) {
            return Err(Box::new(self.unknown(step, "its NFSv4 ACL can't be read".to_owned())));
        }
        let decision = decide(object, &step.subject, want);
        if !decision.allowed {
            let reason = self.denied_words(step, object, &decision, what);
            let mut verdict = self.outcome(Some(false), step, reason, Some("EACCES"));
            verdict.refusal = step.node.map(|node| Refusal::Permission {
                host: step.seen_on.clone(),
                node,
                subject: step.subject.clone(),
                want,
            });
            return Err(Box::new(verdict));
        }
        Ok(decision)
    }

    /// What the options of SMB mounts on the way allow on their clients.
    fn lets_through(
        &self,
        step: &Step,
        object: &Object,
        want: u8,
        what: &str,
    ) -> Result<(), Box<Verdict>> {
        for gate in &step.gates {
            if let Some(doubt) = &gate.subject.doubt {
                return Err(Box::new(self.unknown(step, doubt.to_string())));
            }
            let local = Object::plain(gate.meta(&object.meta));
            let decision = decide(&local, &gate.subject, want);
            if !decision.allowed {
                let reason = format!(
                    "the options of the mount at {} ({}) do not let {} {what}",
                    gate.point,
                    gate.text(object.is_folder()),
                    gate.subject
                );
                let mut verdict = self.outcome(Some(false), step, reason, Some("EACCES"));
                verdict.decided_at = (gate.host.clone(), gate.point.clone());
                verdict.refusal = Some(Refusal::Options(Arc::clone(gate), want));
                return Err(Box::new(verdict));
            }
        }
        Ok(())
    }

    fn denied_words(
        &self,
        step: &Step,
        object: &Object,
        decision: &Decision,
        what: &str,
    ) -> String {
        let entry = decision.entry(object);
        let name = self.site.owner_text(&step.seen_on, &object.meta);
        let mode = object.meta.mode;
        format!("{entry} does not let {} {what} (mode {mode:04o} {name})", step.subject)
    }

    /// One request on the object itself. What comes first is what the kernel comes to first (`fs/namei.c`, `may_open`,
    /// `may_create`): creating asks for a writable mount before anything else, opening for writing asks for it last.
    fn object(&self, step: &Step, object: &Object, want: u8) -> Verdict {
        self.requested(step, object, want).unwrap_or_else(|verdict| *verdict)
    }

    fn requested(&self, step: &Step, object: &Object, want: u8) -> Result<Verdict, Box<Verdict>> {
        let meta = &object.meta;
        let folder = object.is_folder();
        let writes = want & W != 0;
        // FIFOs, sockets and devices stay writable on a read-only filesystem: their contents are elsewhere.
        let stored = writes && (folder || meta.kind == EntryKind::File);
        // A name in a folder is looked up there before anything is made.
        if writes && folder {
            self.asks(step, object, X, "enter it")?;
        }
        if stored {
            self.writable(&self.route.layers, step, |layer| folder || layer.filesystem)?;
        }
        let flags = meta.flags.unwrap_or_default();
        if writes && flags.immutable {
            return Err(self.flagged(step, "it is immutable (chattr +i)"));
        }
        if writes && step.subject.bars_change(meta.uid, meta.gid) {
            let reason = self.barred_words(step, meta);
            return Err(Box::new(self.outcome(Some(false), step, reason, Some("EACCES"))));
        }
        let what = match (writes, folder) {
            (true, true) => "add to it",
            (true, false) => "write it",
            (false, true) if want == X => "enter it",
            (false, true) => "list it",
            (false, false) => "read it",
        };
        let decision = self.asks(step, object, want, what)?;
        if writes && !folder && flags.append {
            return Err(self.flagged(step, "it may only grow (chattr +a)"));
        }
        if stored {
            self.writable(&self.route.layers, step, |_| true)?;
        }
        Ok(self.outcome(Some(true), step, decision.entry(object), None))
    }

    fn barred_words(&self, step: &Step, meta: &Meta) -> String {
        let name = self.site.owner_text(&step.seen_on, meta);
        format!(
            "the idmapped mount does not map its owner or group ({name}), so nobody can change it"
        )
    }

    /// What even root is refused (`ioctl_iflags(2)`).
    fn flagged(&self, step: &Step, why: &str) -> Box<Verdict> {
        let mut verdict = self.outcome(Some(false), step, why.to_owned(), Some("EPERM"));
        verdict.refusal = step.node.map(|node| Refusal::Flag { host: step.seen_on.clone(), node });
        Box::new(verdict)
    }

    /// Whether none of these layers is read-only.
    fn writable(
        &self,
        layers: &[Layer],
        step: &Step,
        which: impl Fn(&Layer) -> bool,
    ) -> Result<(), Box<Verdict>> {
        let read_only = layers.iter().find(|layer| layer.mode == Mode::ReadOnly && which(layer));
        let Some(layer) = read_only else { return Ok(()) };
        let reason = format!("{} is read-only", layer.what);
        let mut verdict = self.outcome(Some(false), step, reason, Some("EROFS"));
        verdict.decided_at = (layer.host.clone(), layer.path.clone());
        verdict.refusal = Some(Refusal::ReadOnly(layer.clone()));
        Err(Box::new(verdict))
    }

    fn remove(
        &self,
        objects: Objects,
        last: &Step,
        node: NodeId,
        parent: Option<&Step>,
    ) -> Verdict {
        self.removed(objects, last, node, parent).unwrap_or_else(|verdict| *verdict)
    }

    /// The kernel's order (`fs/namei.c`, `may_delete`).
    fn removed(
        &self,
        objects: Objects,
        last: &Step,
        node: NodeId,
        parent: Option<&Step>,
    ) -> Result<Verdict, Box<Verdict>> {
        let refused = |step: &Step, why: String, errno| {
            Err(Box::new(self.outcome(Some(false), step, why, Some(errno))))
        };
        let Some((step, folder)) = parent.and_then(|step| Some((step, step.node?))) else {
            return refused(last, "it is the root of the view".to_owned(), "EBUSY");
        };
        let (target, above) = (objects.of(node), objects.of(folder));
        // What is attached exactly here is no part of the folder that it would be removed from.
        let outside = self
            .route
            .asked
            .parent()
            .filter(|_| last.attached)
            .map(|parent| follow(self.site, &self.route.view, &parent, &self.route.subject));
        let layers = outside.as_ref().map_or(&self.route.layers, |outside| &outside.layers);
        self.writable(layers, step, |_| true)?;
        let (meta, subject) = (&target.meta, &step.subject);
        let above_flags = above.meta.flags.unwrap_or_default();
        if subject.bars_change(meta.uid, meta.gid) {
            return refused(last, self.barred_words(last, meta), "EOVERFLOW");
        }
        if above_flags.immutable {
            return Err(self.flagged(step, "the folder is immutable (chattr +i)"));
        }
        if subject.bars_change(above.meta.uid, above.meta.gid) {
            return refused(step, self.barred_words(step, &above.meta), "EACCES");
        }
        let reason = if above.nfs4.is_some() || target.nfs4.is_some() {
            self.lets_through(step, &above, W | X, "remove from it")?;
            match self.may_delete_nfs4(step, &target, &above) {
                Ok(reason) => reason,
                Err(why) => return refused(step, why, "EACCES"),
            }
        } else {
            let decision = self.asks(step, &above, W | X, "remove from it")?;
            let owns = subject.uid == meta.uid || subject.uid == above.meta.uid;
            let overrides = subject.capabilities.fowner && subject.rules_over(meta.uid, meta.gid);
            if !above_flags.append && above.meta.mode & 0o1000 != 0 && !owns && !overrides {
                let owner = meta.uid;
                let why = format!(
                    "the folder is sticky, and {subject} owns neither it nor the entry (uid {owner})"
                );
                let mut verdict = self.outcome(Some(false), step, why, Some("EPERM"));
                verdict.refusal =
                    Some(Refusal::Sticky { host: step.seen_on.clone(), node: folder });
                return Err(Box::new(verdict));
            }
            decision.entry(&above)
        };
        if above_flags.append {
            return Err(self.flagged(step, "the folder may only grow (chattr +a)"));
        }
        let flags = meta.flags.unwrap_or_default();
        if flags.immutable || flags.append {
            let which = if flags.immutable { "+i" } else { "+a" };
            return Err(self.flagged(last, &format!("it may not be removed (chattr {which})")));
        }
        if last.attached {
            return refused(last, "something is mounted or mapped here".to_owned(), "EBUSY");
        }
        if target.is_folder() {
            if objects.tree.children(node).len() > 0 {
                return refused(last, "it is not empty".to_owned(), "ENOTEMPTY");
            }
            if objects.tree.listing(node) != Listing::Complete {
                return Ok(self.unknown(last, "whether it is empty was not seen".to_owned()));
            }
        }
        Ok(self.outcome(Some(true), step, reason, None))
    }

    /// DELETE on the object or DELETE_CHILD on its folder permits it; where neither is spoken of, write permission on the
    /// folder does, and the sticky bit counts (RFC 8881, section 6.2.1.3.2).
    fn may_delete_nfs4(
        &self,
        step: &Step,
        target: &Object,
        above: &Object,
    ) -> Result<String, String> {
        let subject = &step.subject;
        let settle = |object: &Object, bit| {
            let acl = object.nfs4.as_ref();
            acl.map_or(Settled::Open, |acl| acl.settle(&object.meta, subject, bit))
        };
        let text = |object: &Object, n: usize| {
            object.nfs4.as_ref().and_then(|acl| acl.entries().get(n)).map(ToString::to_string)
        };
        let (own, child) = (settle(target, nfs4::DELETE), settle(above, nfs4::DELETE_CHILD));
        match (own, child) {
            (Settled::Allowed(n), _) => return Ok(text(target, n).unwrap_or_default()),
            (_, Settled::Allowed(n)) => return Ok(text(above, n).unwrap_or_default()),
            _ => {}
        }
        let caps = subject.capabilities;
        if caps.dac_override && subject.rules_over(above.meta.uid, above.meta.gid) {
            return Ok("CAP_DAC_OVERRIDE".to_owned());
        }
        let denied = match (own, child) {
            (Settled::Denied(n), _) => text(target, n),
            (_, Settled::Denied(n)) => text(above, n),
            _ => None,
        };
        if let Some(entry) = denied {
            return Err(format!("{entry} does not let {subject} remove it"));
        }
        let writes = decide(above, subject, W);
        let owns = subject.uid == target.meta.uid || subject.uid == above.meta.uid;
        if !writes.allowed {
            let entry = writes.entry(above);
            return Err(format!("{entry} does not let {subject} remove from the folder"));
        }
        if above.meta.mode & 0o1000 != 0 && !owns && !caps.fowner {
            return Err(format!(
                "the folder is sticky, and {subject} owns neither it nor the entry"
            ));
        }
        Ok(writes.entry(above))
    }
}

/// Judges a need of a subject on an entry that a folder would hold: what one can do with a file that is yet to be made.
/// Everything up to the folder is judged along the route; `entry` is only supposed.
pub fn judge_within(site: &Site, route: &Route, entry: &Object, need: Need) -> Verdict {
    let searched = judge(site, route, Need::Enter);
    let (Some(true), Some((step, node))) = (searched.allowed, route.entry()) else {
        return Verdict { need, ..searched };
    };
    let judge = Judge { site, route, need };
    match need {
        Need::Read => judge.read(step, entry),
        Need::Write | Need::Add if entry.is_folder() => judge.object(step, entry, W | X),
        Need::Write => judge.object(step, entry, W),
        Need::Enter | Need::Add => judge.object(step, entry, X),
        Need::Remove => {
            let added = Verdict { need, ..Judge { need: Need::Add, ..judge }.verdict() };
            let folder = site.object(&step.seen_on, node).map(|folder| folder.meta);
            let subject = &step.subject;
            let sticky = folder.is_some_and(|folder| {
                folder.mode & 0o1000 != 0
                    && subject.uid != folder.uid
                    && subject.uid != entry.meta.uid
                    && !subject.capabilities.fowner
            });
            if added.allowed == Some(true) && sticky {
                let why =
                    format!("the folder is sticky, and {subject} owns neither it nor the entry");
                return Judge { site, route, need }.outcome(Some(false), step, why, Some("EPERM"));
            }
            added
        }
    }
}
