//! Who could read a file before its name became one of another file, and no longer can.

use crate::judge::everyone::everyone;
use crate::judge::verdict::{Answer, Need};
use crate::kernel::decide::{R, decide};
use crate::kernel::object::Object;
use crate::kernel::subject::{NOBODY, Subject};
use crate::site::join::Site;
use crate::waste::stock::{FileId, NameAt, Stock};
use crate::words::place::Place;

/// Everyone who can read a name now, and could not if it were one of another file.
pub(super) fn losers(stock: &Stock, name: NameAt, new: FileId) -> Vec<String> {
    let by = stock.names(new)[0];
    let (old, new) = (stock.tree(name).object(name.node), stock.tree(by).object(by.node));
    lose(stock.site, &stock.place(name), &old, &new)
}

/// Everyone who can read an entry at a place as it is, and could not if another one stood there.
pub fn lose(site: &Site, place: &Place, old: &Object, new: &Object) -> Vec<String> {
    let mode = |object: &Object| (object.meta.mode & 0o777, object.meta.uid, object.meta.gid);
    if mode(old) == mode(new) && old.acl == new.acl && old.nfs4 == new.nfs4 {
        return Vec::new();
    }
    let Some(folder) = place.path.parent() else { return Vec::new() };
    let folder = Place::new(&place.host, folder);
    let reads = |answers: Option<Vec<Answer>>| {
        answers.and_then(|answers| {
            answers.into_iter().find(|answer| answer.need == Need::Read)?.allowed()
        })
    };
    let mut lose: Vec<String> = everyone(site, &folder, true)
        .into_iter()
        .filter(|party| {
            reads(party.could(site, old)) != Some(false)
                && reads(party.could(site, new)) == Some(false)
        })
        .map(|party| party.name)
        .collect();
    // Those whom no account names: whoever owns it, is in its group, or is neither.
    let stranger = NOBODY - 2;
    let mut unnamed = |name: String, subject: Subject| {
        let may = |object: &Object| decide(object, &subject, R).allowed;
        if may(old) && !may(new) {
            lose.push(name);
        }
    };
    let (uid, gid) = (old.meta.uid, old.meta.gid);
    if site.account_numbered(&place.host, uid).is_none() {
        unnamed(format!("the uid {uid}"), Subject::new(uid, stranger, []));
    }
    unnamed(
        format!("whoever is in the group {}", site.group_text(&place.host, gid)),
        Subject::new(stranger, gid, []),
    );
    unnamed("whoever is in no group".to_owned(), Subject::new(stranger, stranger, []));
    lose
}
