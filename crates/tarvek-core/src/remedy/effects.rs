//! What changes make of the access of everyone: what others gain and lose, and what those lose whom
//! they are for.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use crate::judge::everyone::arrivals;
use crate::kernel::acl::Tag;
use crate::kernel::decide::{R, W, X, decide};
use crate::kernel::entry::EntryKind;
use crate::kernel::nfs4::Who;
use crate::kernel::object::{Edit, Object};
use crate::kernel::subject::Subject;
use crate::site::join::Site;
use crate::site::suppose::{AccessClass, Change};
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::text::counted;

/// What changes make of the access of everyone. `before` and `after` are the site without and with
/// them, `asker` whom they are for, and `joins` says whether that one joins a group.
pub fn effects(
    before: &Site,
    after: &Site,
    changes: &[Change],
    asker: &Subject,
    joins: bool,
) -> Vec<String> {
    let mut lines = Vec::new();
    let mut tallies: BTreeMap<String, Tally> = BTreeMap::new();
    // Which entries of a host were compared for those who are named, and which for all.
    let mut compared: HashMap<&Name, Vec<u8>> = HashMap::new();
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
            Edit::Without(_) => lines
                .push(format!("whoever may write {place} can then remove what others have in it")),
            Edit::NoFlags => lines.push(format!(
                "whoever may write {place}, or the folder that it is in, can then change or remove \
                 it"
            )),
            _ => {}
        }
        let asks = arrivals(before, &Place::new(host, &place));
        let mut named: Vec<(String, Subject)> =
            asks.iter().filter(|(_, subject)| is_for(change, subject, asker)).cloned().collect();
        if named.is_empty() && is_for(change, asker, asker) {
            named.push((asker.to_string(), asker.clone()));
        }
        let one_user = matches!(change.edit, Edit::Entry { tag: Tag::User(_), .. });
        let met = compared.entry(host).or_insert_with(|| vec![0; old.tree.len()]);
        let (mut befores, mut afters) = (old.alikes(), new.alikes());
        let mut known: HashMap<(AccessClass, AccessClass), Arc<Differs>> = HashMap::new();
        for node in old.tree.below_but(change.at, |_| !change.below) {
            if old.tree.kind(node) == EntryKind::Symlink {
                continue;
            }
            let find = || {
                let (was, is) = (old.of(node), new.of(node));
                // An entry for one user, where there was no ACL, is nothing to anybody else.
                let all = !one_user || was.acl.is_some();
                Differs {
                    all,
                    fresh_default: is.is_folder()
                        && was.default_acl.is_none()
                        && is.default_acl.is_some(),
                    parties: differs(if all { &asks } else { &named }, &was, &is),
                }
            };
            let differs = match befores.of(node).zip(afters.of(node)) {
                Some(alike) => Arc::clone(known.entry(alike).or_insert_with(|| Arc::new(find()))),
                None => Arc::new(find()),
            };
            fresh_defaults += u64::from(differs.fresh_default);
            let bit = if differs.all { 1 } else { 2 };
            if met[node.0 as usize] & bit == 0 {
                met[node.0 as usize] |= bit;
                let asks = if differs.all { &asks } else { &named };
                tally(asks, &differs, || old.tree.path(node), &mut tallies);
            }
        }
    }
    // Who gains and loses the same is told in one line.
    let mut alike: Vec<(String, Vec<String>)> = Vec::new();
    for (who, tally) in tallies {
        // That they gain something is what it is for.
        let meant = changes.iter().all(|change| is_for(change, &tally.subject, asker));
        let told = Tally { gains: if meant { 0 } else { tally.gains }, ..tally };
        if told.gains + told.loses == 0 {
            continue;
        }
        let words = told.words();
        match alike.iter_mut().find(|(known, _)| *known == words) {
            Some((_, parties)) => parties.push(who),
            None => alike.push((words, vec![who])),
        }
    }
    lines.extend(alike.into_iter().map(|(words, parties)| format!("{} {words}", listed(&parties))));
    if fresh_defaults > 0 {
        lines.push(
            "new entries there get the folder's default ACL instead of the umask of whoever \
                    makes them"
                .to_owned(),
        );
    }
    if joins {
        lines.push("what else the group may do, the new member may then do as well".to_owned());
    }
    for layer in &after.writable_layers()[before.writable_layers().len()..] {
        lines.push(format!("{layer} becomes writable for all who come that way"));
    }
    lines
}

/// Some parties in a sentence; of many the first few, and how many more there are.
fn listed(parties: &[String]) -> String {
    const MOST: usize = 8;
    match parties {
        [one] => one.clone(),
        [first @ .., last] if parties.len() <= MOST => format!("{} and {last}", first.join(", ")),
        many => format!("{} and {} others", many[..MOST - 1].join(", "), many.len() - MOST + 1),
    }
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

/// What changes make of entries that are alike.
struct Differs {
    /// Whether it concerns everybody, or only those whom a change names.
    all: bool,
    /// Whether a folder gets a default ACL that it had not.
    fresh_default: bool,
    /// Of those who gain or lose something: who, and what they could do before and after.
    parties: Vec<(usize, u8, u8)>,
}

fn differs(asks: &[(String, Subject)], was: &Object, is: &Object) -> Vec<(usize, u8, u8)> {
    // A file that is executable or not is of no concern here.
    let relevant = if was.is_folder() { R | W | X } else { R | W };
    let may = |object: &Object, subject: &Subject| {
        let bits = [R, W, X].into_iter().filter(|bit| relevant & bit != 0);
        bits.filter(|bit| decide(object, subject, *bit).allowed).fold(0, |all, bit| all | bit)
    };
    let both = asks.iter().map(|(_, subject)| (may(was, subject), may(is, subject)));
    let all = both.enumerate().map(|(n, (before, after))| (n, before, after));
    all.filter(|(_, before, after)| before != after).collect()
}

fn tally(
    asks: &[(String, Subject)],
    differs: &Differs,
    place: impl Fn() -> AbsPath,
    tallies: &mut BTreeMap<String, Tally>,
) {
    for &(n, before, after) in &differs.parties {
        let (name, subject) = &asks[n];
        if !tallies.contains_key(name) {
            let such = (place(), 0);
            let (gained, lost) = (such.clone(), such);
            let new = Tally { subject: subject.clone(), gains: 0, loses: 0, gained, lost };
            tallies.insert(name.clone(), new);
        }
        let tally = tallies.get_mut(name).expect("it is there");
        for (bits, count, such) in [
            (after & !before, &mut tally.gains, &mut tally.gained),
            (before & !after, &mut tally.loses, &mut tally.lost),
        ] {
            if bits != 0 && *count == 0 {
                such.0 = place();
            }
            *count += u64::from(bits != 0);
            such.1 |= bits;
        }
    }
}
