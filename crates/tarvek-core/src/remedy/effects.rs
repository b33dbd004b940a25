//! What changes make of the access of everyone: what others gain and lose, and what those lose whom they are for.

use std::collections::{BTreeMap, HashSet};

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

/// What changes make of the access of everyone. `before` and `after` are the site without and with them, `asker` whom they
/// are for, and `joins` says whether that one joins a group.
pub fn effects(
    before: &Site,
    after: &Site,
    changes: &[Change],
    asker: &Subject,
    joins: bool,
) -> Vec<String> {
    let mut lines = Vec::new();
    let mut tallies: BTreeMap<String, Tally> = BTreeMap::new();
    let mut compared = HashSet::new();
    let mut fresh_defaults = 0;
    for (n, change) in changes.iter().enumerate() {
        if changes[..n].contains(change) {
            continue;
        }
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
        let mut named: Vec<(String, Subject)> =
            asks.iter().filter(|(_, subject)| is_for(change, subject, asker)).cloned().collect();
        if named.is_empty() && is_for(change, asker, asker) {
            named.push((asker.to_string(), asker.clone()));
        }
        for node in old.tree.below_but(change.at, |_| !change.below) {
            let was = old.of(node);
            if was.meta.kind == EntryKind::Symlink {
                continue;
            }
            let is = new.of(node);
            if is.is_folder() && was.default_acl.is_none() && is.default_acl.is_some() {
                fresh_defaults += 1;
            }
            // An entry for one user, where there was no ACL, is nothing to anybody else.
            let one_user = matches!(change.edit, Edit::Entry { tag: Tag::User(_), .. });
            let all = !one_user || was.acl.is_some();
            if compared.insert((host.clone(), node, all)) {
                let asks = if all { &asks } else { &named };
                compare(asks, &was, &is, &old.tree.path(node), &mut tallies);
            }
        }
    }
    for (who, tally) in tallies {
        // That they gain something is what it is for.
        let meant = changes.iter().all(|change| is_for(change, &tally.subject, asker));
        let told = Tally { gains: if meant { 0 } else { tally.gains }, ..tally };
        if told.gains + told.loses > 0 {
            lines.push(format!("{who} {}", told.words()));
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
    /// Where something is gained, and what is.
    gained: (AbsPath, u8),
    /// Where something is lost, and what is.
    lost: (AbsPath, u8),
}

impl Tally {
    fn words(&self) -> String {
        let words = |bits: u8| {
            let words = [(R, "read"), (W, "write"), (X, "enter")];
            let words = words.into_iter().filter(|(bit, _)| bits & bit != 0);
            words.map(|(_, word)| word).collect::<Vec<_>>().join(" and ")
        };
        let (gains, loses) = (counted(self.gains, "entry"), counted(self.loses, "entry"));
        let ((gained, more), (lost, less)) = (&self.gained, &self.lost);
        let gains = format!("could then {} {gains} more, such as {gained}", words(*more));
        let loses = format!("could then no longer {} {loses}, such as {lost}", words(*less));
        match (self.gains, self.loses) {
            (_, 0) => gains,
            (0, _) => loses,
            _ => format!("{gains}, and {loses}"),
        }
    }
}

/// Whether a change is for somebody: they are named by it, or ask for it.
fn is_for(change: &Change, subject: &Subject, asker: &Subject) -> bool {
    match &change.edit {
        Edit::Entry { tag: Tag::User(uid), .. } | Edit::Inherited { tag: Tag::User(uid), .. } => {
            subject.uid == *uid
        }
        Edit::Ace { entry } => entry.who == Who::Uid(subject.uid),
        _ => subject == asker,
    }
}

fn compare(
    asks: &[(String, Subject)],
    was: &Object,
    is: &Object,
    place: &AbsPath,
    tallies: &mut BTreeMap<String, Tally>,
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
        let tally = tallies.entry(name.clone()).or_insert_with(|| Tally {
            subject: subject.clone(),
            gains: 0,
            loses: 0,
            gained: (place.clone(), 0),
            lost: (place.clone(), 0),
        });
        for (bits, count, such) in [
            (after & !before, &mut tally.gains, &mut tally.gained),
            (before & !after, &mut tally.loses, &mut tally.lost),
        ] {
            if bits != 0 && *count == 0 {
                such.0 = place.clone();
            }
            *count += u64::from(bits != 0);
            such.1 |= bits;
        }
    }
}
