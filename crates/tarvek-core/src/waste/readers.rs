//! What changes for a name that becomes one of another file: its attributes, and who may read or
//! write it.

use std::collections::HashSet;

use crate::judge::everyone::everyone;
use crate::judge::verdict::{Answer, Need};
use crate::kernel::decide::{R, W, decide};
use crate::kernel::object::Object;
use crate::kernel::subject::{NOBODY, Subject};
use crate::site::join::Site;
use crate::waste::inventory::{FileId, Inventory, NameAt};
use crate::words::place::Place;

/// What changes for a name if it becomes one of another file.
pub(super) fn change_as_link(stock: &Inventory, name: NameAt, new: FileId) -> RightsChange {
    let by = stock.names(new)[0];
    let (old, new) = (stock.tree(name).object(name.node), stock.tree(by).object(by.node));
    rights_change(stock.site, &stock.place(name), &old, &new)
}

/// What changes if another entry stands at a place.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RightsChange {
    /// Owner, group, mode and ACL, as far as they differ.
    pub attributes: Vec<String>,
    /// Who could do what, and no longer could.
    pub lose: Vec<(String, Need)>,
    /// Who could not do what, and then could.
    pub gain: Vec<(String, Need)>,
}

impl RightsChange {
    /// Whether anybody gains or loses anything.
    pub fn is_for_somebody(&self) -> bool {
        !self.lose.is_empty() || !self.gain.is_empty()
    }

    /// Everyone who could read, and no longer could.
    pub fn no_longer_read(&self) -> impl Iterator<Item = &str> {
        let reading = self.lose.iter().filter(|(_, need)| *need == Need::Read);
        reading.map(|(who, _)| who.as_str())
    }

    /// Who loses and who gains, in a sentence without its beginning: `mira could no longer write
    /// it`.
    pub fn for_whom(&self) -> String {
        self.parts().join("; ")
    }

    /// All of it, a line each.
    pub fn lines(&self) -> Vec<String> {
        self.attributes.iter().cloned().chain(self.parts()).collect()
    }

    fn parts(&self) -> Vec<String> {
        let mut parts = Vec::new();
        for (all, could) in [(&self.lose, "could no longer"), (&self.gain, "could")] {
            for need in [Need::Read, Need::Write] {
                let who: Vec<&str> =
                    all.iter().filter(|(_, of)| *of == need).map(|(who, _)| who.as_str()).collect();
                let [first, rest @ ..] = who.as_slice() else { continue };
                let more = match rest.len() {
                    0 => String::new(),
                    more => format!(" and {more} more"),
                };
                parts.push(format!("{first}{more} {could} {} it", need.to()));
            }
        }
        parts
    }
}

/// What changes for everybody if an entry at a place becomes another one.
pub fn rights_change(site: &Site, place: &Place, old: &Object, new: &Object) -> RightsChange {
    let mut change =
        RightsChange { attributes: attributes(site, place, old, new), ..Default::default() };
    let Some(folder) = place.path.parent() else { return change };
    if change.attributes.is_empty() {
        return change;
    }
    let folder = Place::new(&place.host, folder);
    let may = |answers: &Option<Vec<Answer>>, need: Need| {
        answers.as_ref()?.iter().find(|answer| answer.need == need)?.allowed()
    };
    let needs = [(Need::Read, R), (Need::Write, W)];
    for party in everyone(site, &folder, true) {
        let (before, after) = (party.could(site, old), party.could(site, new));
        for (need, _) in needs {
            let (before, after) = (may(&before, need), may(&after, need));
            match (before == Some(false), after == Some(false)) {
                (false, true) => change.lose.push((party.name.clone(), need)),
                (true, false) => change.gain.push((party.name.clone(), need)),
                _ => {}
            }
        }
    }
    // Those whom no account names: whoever owns it, is in its group, or is neither.
    let stranger = NOBODY - 2;
    let mut unnamed: Vec<(String, Subject)> = Vec::new();
    for object in [old, new] {
        let (uid, gid) = (object.meta.uid, object.meta.gid);
        if site.account_numbered(&place.host, uid).is_none() {
            unnamed.push((format!("the uid {uid}"), Subject::new(uid, stranger, [])));
        }
        let group = site.group_text(&place.host, gid);
        unnamed.push((format!("whoever is in the group {group}"), Subject::new(stranger, gid, [])));
    }
    unnamed.push(("whoever is in no group".to_owned(), Subject::new(stranger, stranger, [])));
    let mut met = HashSet::new();
    unnamed.retain(|(name, _)| met.insert(name.clone()));
    for (name, subject) in unnamed {
        for (need, bits) in needs {
            let may = |object: &Object| decide(object, &subject, bits).allowed;
            match (may(old), may(new)) {
                (true, false) => change.lose.push((name.clone(), need)),
                (false, true) => change.gain.push((name.clone(), need)),
                _ => {}
            }
        }
    }
    // Services first, then those whom no account names: of the many accounts of a machine most are
    // none of people.
    let rank = |(who, _): &(String, Need)| match who.split_once(':') {
        Some(("account", _)) => 2,
        Some(_) => 0,
        None => 1,
    };
    change.lose.sort_by_key(rank);
    change.gain.sort_by_key(rank);
    change
}

fn attributes(site: &Site, place: &Place, old: &Object, new: &Object) -> Vec<String> {
    let host = &place.host;
    let acl = |object: &Object| match (&object.nfs4, &object.acl) {
        (Some(acl), _) => acl.to_string(),
        (None, Some(acl)) => acl.to_string(),
        (None, None) => "none".to_owned(),
    };
    let mode = |object: &Object| format!("{:04o}", object.meta.mode & 0o7777);
    let (a, b) = (&old.meta, &new.meta);
    [
        ("owner", site.user_text(host, a.uid), site.user_text(host, b.uid)),
        ("group", site.group_text(host, a.gid), site.group_text(host, b.gid)),
        ("mode", mode(old), mode(new)),
        ("ACL", acl(old), acl(new)),
    ]
    .into_iter()
    .filter(|(_, old, new)| old != new)
    .map(|(what, old, new)| format!("{what} {old} → {new}"))
    .collect()
}
