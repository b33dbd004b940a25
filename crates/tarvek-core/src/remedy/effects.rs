//! What changes make of the access of everyone else.

use std::collections::BTreeMap;

use crate::judge::everyone::{Party, everyone};
use crate::kernel::acl::Tag;
use crate::kernel::decide::{R, W, X, decide};
use crate::kernel::entry::EntryKind;
use crate::kernel::nfs4::Who;
use crate::kernel::object::{Edit, Object};
use crate::kernel::subject::Subject;
use crate::site::join::Site;
use crate::site::suppose::Change;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::text::counted;

/// What changes make of the access of everyone else. `before` and `after` are the site without and with them, `asker` whom they
/// are for, and `joins` says whether that one joins a group.
pub fn effects(
    before: &Site,
    after: &Site,
    changes: &[Change],
    asker: &Subject,
    joins: bool,
) -> Vec<String> {
    let mut lines = Vec::new();
    let mut others: BTreeMap<String, Tally> = BTreeMap::new();
    let mut fresh_defaults = 0;
    for change in changes {
        let host = &change.host;
        let (Some(old), Some(new)) = (before.objects(host), after.objects(host)) else {
            continue;
        };
        let place = old.tree.path(change.at);
        match change.edit {
            Edit::Without(_) => lines.push(format!(
                "whoever may write {place} can then remove what others have in it"
            )),
            Edit::NoFlags => lines.push(format!(
                "whoever may write {place}, or the folder that it is in, can then change or remove it"
            )),
            _ => {}
        }
        let parties = everyone(before, &Place::new(host, &place), true);
        let asks: Vec<(String, Subject)> =
            parties.into_iter().filter_map(|party| arrives(party, host)).collect();
        for node in old.tree.below_but(change.at, |_| !change.below) {
            let was = old.of(node);
            let one_user = matches!(change.edit, Edit::Entry { tag: Tag::User(_), inherit, .. } if !inherit || !was.is_folder());
            // An entry for one user, where there was no ACL, is nothing to anybody else.
            if was.meta.kind == EntryKind::Symlink || one_user && was.acl.is_none() {
                continue;
            }
            let is = new.of(node);
            if is.is_folder() && was.default_acl.is_none() && is.default_acl.is_some() {
                fresh_defaults += 1;
                if was.acl.is_none() {
                    continue;
                }
            }
            compare(&asks, &was, &is, &old.tree.path(node), &mut others);
        }
    }
    for (who, tally) in others {
        // Whom the remedy is for is no other.
        if !tally.is_for(changes, asker) {
            lines.push(format!("{who} {}", tally.words()));
        }
    }
    if fresh_defaults > 0 {
        lines.push("new entries there get the folder's default ACL instead of the umask of whoever makes them".to_owned());
    }
    if joins {
        lines.push("what else the group may do, the new member may then do as well".to_owned());
    }
    for layer in &after.writable_layers()[before.writable_layers().len()..] {
        lines.push(format!("{layer} becomes writable for all who come that way"));
    }
    lines
}

/// As whom a party comes to a host.
fn arrives(party: Party, host: &Name) -> Option<(String, Subject)> {
    let route = party.route?;
    let there = route.trail.iter().rev().find(|waypoint| waypoint.seen_on == *host)?;
    there.subject.doubt.is_none().then(|| (party.name, there.subject.clone()))
}

/// What somebody gains and loses.
struct Tally {
    subject: Subject,
    gains: u64,
    loses: u64,
    example: AbsPath,
    bits: u8,
}

impl Tally {
    fn is_for(&self, changes: &[Change], asker: &Subject) -> bool {
        let named = |change: &Change| match &change.edit {
            Edit::Entry { tag: Tag::User(uid), .. }
            | Edit::Exactly { tag: Tag::User(uid), .. }
            | Edit::Inherited { tag: Tag::User(uid), .. } => self.subject.uid == *uid,
            Edit::Ace { entry } => entry.who == Who::Uid(self.subject.uid),
            _ => self.subject == *asker,
        };
        changes.iter().all(named)
    }

    fn words(&self) -> String {
        let what: Vec<&str> = [(R, "read"), (W, "write"), (X, "enter")]
            .iter()
            .filter(|(bit, _)| self.bits & bit != 0)
            .map(|(_, word)| *word)
            .collect();
        let (gains, loses) = (counted(self.gains, "entry"), counted(self.loses, "entry"));
        let example = &self.example;
        let what = what.join(" and ");
        match (self.gains, self.loses) {
            (_, 0) => format!("could then {what} {gains} more, such as {example}"),
            (0, _) => format!("could then no longer {what} {loses}, such as {example}"),
            _ => format!("could then {what} {gains} more and {loses} less, such as {example}"),
        }
    }
}

fn compare(
    asks: &[(String, Subject)],
    was: &Object,
    is: &Object,
    place: &AbsPath,
    others: &mut BTreeMap<String, Tally>,
) {
    for (name, subject) in asks {
        let may = |object: &Object| {
            [R, W, X]
                .into_iter()
                .filter(|bit| decide(object, subject, *bit).allowed)
                .fold(0, |all, bit| all | bit)
        };
        // A file that is executable or not is of no concern here.
        let relevant = if was.is_folder() { R | W | X } else { R | W };
        let (before, after) = (may(was) & relevant, may(is) & relevant);
        if before == after {
            continue;
        }
        let tally = others.entry(name.clone()).or_insert_with(|| Tally {
            subject: subject.clone(),
            gains: 0,
            loses: 0,
            example: place.clone(),
            bits: 0,
        });
        tally.gains += u64::from(after & !before != 0);
        tally.loses += u64::from(before & !after != 0);
        tally.bits |= before ^ after;
    }
}
