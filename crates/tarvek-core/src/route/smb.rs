//! Who arrives over SMB, and how the share may be used (`smb.conf(5)`).

use crate::kernel::gate::Gate;
use crate::kernel::subject::{NOBODY, Subject, Token};
use crate::layout::share::Share;
use crate::route::spot::{Arrival, MountVia, OfferVia};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::offer::SmbOffer;
use crate::words::options::MountOptions;
use crate::words::place::Place;
use crate::words::terms::{Access, Account};

/// Over SMB the server sees the mount's user, whoever asks on the client, and the client checks by
/// itself (`mount.cifs(8)`).
///
/// # Errors
/// Why the server refuses the session.
pub(super) fn arrive(
    site: &Site,
    client: &Name,
    server: &Name,
    share: Option<&Share>,
    user: Option<&Name>,
    local: &Subject,
    via: &mut MountVia,
) -> Result<Arrival, NotAdmitted> {
    let at = Place::new(client, &via.point);
    via.gate = Gate::of_mount(at, site.os(client), &via.options, local);
    let name = share.map(|share| share.name.clone());
    let Some(offer) = share.and_then(|share| share.smb.as_ref()) else {
        let remark = "the layout declares no share for it".to_owned();
        return Ok(Arrival {
            subject: Subject::unknown("no share of the layout says who acts on the server"),
            offer: OfferVia { share: name, access: Access::ReadWrite, remark, changed_by: None },
        });
    };
    let login = Login::of_mount(user, &via.options);
    let remark = match &login {
        Login::As(user) => format!("offered over SMB to {user}"),
        Login::Anonymous => "offered over SMB to guests".to_owned(),
        Login::Unsaid => "offered over SMB".to_owned(),
    };
    match connect(site, server, offer, &login) {
        Session::Open { subject, access, by } => {
            let offer = OfferVia { share: name, access, remark, changed_by: Some(by) };
            Ok(Arrival { subject, offer })
        }
        Session::Refused(why) => {
            let user = match login {
                Login::As(user) => Some(user),
                _ => None,
            };
            Err(NotAdmitted { why, user })
        }
    }
}

/// Why a share does not let a session in, and whose it is.
pub(super) struct NotAdmitted {
    pub(super) why: String,
    pub(super) user: Option<Name>,
}

/// The account that guests become unless a server says otherwise (`guest account`).
const GUEST: &str = "nobody";

/// Who connects.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Login {
    /// With a name and its password.
    As(Name),
    /// Without either.
    Anonymous,
    /// Nobody says; a credentials file holds the name, and is not read.
    Unsaid,
}

impl Login {
    /// The one of a mount's options: `guest`, or `username=` (`mount.cifs(8)`).
    fn of_mount(user: Option<&Name>, options: &MountOptions) -> Self {
        let option = || options.value("username").or_else(|| options.value("user"));
        match user.cloned().or_else(|| option().map(Name::from)) {
            Some(user) => Self::As(user),
            None if options.has("guest") || options.has("sec=none") => Self::Anonymous,
            None => Self::Unsaid,
        }
    }
}

/// A session with a share.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Session {
    /// The server lets it in.
    Open {
        /// Who acts in the filesystem.
        subject: Subject,
        /// Whether the share may be written.
        access: Access,
        /// What changed the identity, in words.
        by: String,
    },
    /// The server refuses.
    Refused(String),
}

/// What a server makes of somebody who connects to a share. The order is smbd's: who it is, whether
/// the lists admit them, whether they may write, and only then whom they act as.
pub(super) fn connect(site: &Site, server: &Name, offer: &SmbOffer, login: &Login) -> Session {
    let guest = || {
        let name = Name::from(GUEST);
        let account = site.account(server, &name);
        let subject = account.map(|account| site.login(server, account));
        (name, subject.unwrap_or_else(|| Subject::new(NOBODY, NOBODY, [])))
    };
    let (name, subject, mut by) = match login {
        Login::As(user) => match known(site, server, user) {
            Some(account) => {
                let by = format!("the mount connects as {user}");
                (account.name.clone(), site.login(server, account), by)
            }
            None => {
                let why = format!(
                    "the mount connects as {user}, of whom {server} is not known to have an account"
                );
                (user.clone(), Subject::unknown(why.clone()), why)
            }
        },
        Login::Anonymous if !offer.guests => {
            return Session::Refused(
                "the mount names no user, and the share lets no guests in".into(),
            );
        }
        Login::Anonymous => {
            let (name, subject) = guest();
            (name, subject, "the mount names no user: a guest".to_owned())
        }
        Login::Unsaid => {
            let why = "no user is declared for the mount".to_owned();
            return Session::Open {
                subject: Subject::unknown(why.clone()),
                access: if writable_for_all(offer) { Access::ReadWrite } else { Access::ReadOnly },
                by: why,
            };
        }
    };
    let listed = |list: &[Name]| list.iter().any(|entry| names(site, server, entry, &name));
    if listed(&offer.deny) {
        return Session::Refused(format!("the share refuses {}", name));
    }
    if !offer.only.is_empty() && !listed(&offer.only) {
        return Session::Refused(format!("the share does not admit {}", name));
    }
    let read_only =
        if listed(&offer.write) { false } else { listed(&offer.read) || !offer.writable };
    let mut subject = subject;
    if offer.guests && offer.guest_only {
        // The lists are judged for whoever connects, and the files see the guest.
        subject = guest().1;
        by = "everyone is a guest of the share".to_owned();
    }
    if let Some(user) = &offer.force_user {
        subject = match known(site, server, user) {
            Some(account) => site.login(server, account),
            None => Subject::unknown(format!(
                "the share forces the user {}, whom {server} is not known to have",
                user
            )),
        };
        by += &format!("; the share forces the user {}", user);
    }
    if let Some(group) = &offer.force_group {
        let (plain, only_members) = match group.raw().strip_prefix('+') {
            Some(group) => (Name::from(group), true),
            None => (group.clone(), false),
        };
        // Where everyone is a guest, the server works with a guest of its own making, whose token
        // stays whole.
        let made_guest = offer.guests && offer.guest_only;
        let guest = *login == Login::Anonymous && !made_guest;
        let named = offer.force_user.is_some();
        let forced_user = named || made_guest;
        match site.gid_of(server, &plain) {
            Some(gid) if !only_members || subject.is_in(gid) => {
                subject = with_group(subject, gid, named, guest);
                by += &format!("; the share forces the group {plain}");
            }
            Some(_) if forced_user => {
                let why =
                    format!("the share forces a user who is not in {plain}, which it asks for");
                return Session::Refused(why);
            }
            Some(_) => {}
            None => {
                subject = Subject::unknown(format!(
                    "the share forces the group {plain}, which {server} is not known to have"
                ));
            }
        }
    }
    // Whoever is an administrator of the share acts as root, a forced user or not.
    if listed(&offer.admins) {
        subject = Subject::new(0, subject.gid, subject.groups);
        by += ", as an administrator of the share: root";
    }
    Session::Open {
        subject,
        access: if read_only { Access::ReadOnly } else { Access::ReadWrite },
        by,
    }
}

/// Puts a group in the place of the primary one, which stays among the groups as far as the kernel
/// is concerned.
fn with_group(subject: Subject, gid: u32, forced_user: bool, guest: bool) -> Subject {
    let old = subject.gid;
    // Of one who logged in, the primary group stands a second time in the token.
    let lost = forced_user && old != gid && !subject.groups.contains(&old);
    let token =
        Token { without_group: lost.then_some(old), without_everyone: guest && !forced_user };
    let groups = subject.groups.iter().copied().chain([old]);
    Subject { token, doubt: subject.doubt.clone(), ..Subject::new(subject.uid, gid, groups) }
}

fn writable_for_all(offer: &SmbOffer) -> bool {
    offer.writable && offer.read.is_empty()
}

/// The account of a name that somebody connects with; servers compare such names without regard to
/// case.
pub(crate) fn known<'a>(site: &'a Site, server: &'a Name, user: &Name) -> Option<&'a Account> {
    site.account(server, user).or_else(|| {
        site.accounts(server).find(|account| account.name.raw().eq_ignore_ascii_case(user.raw()))
    })
}

/// Whether an entry of a list names somebody: a user, or a group of theirs (`@`, `+` or `&` before
/// its name).
fn names(site: &Site, server: &Name, entry: &Name, user: &Name) -> bool {
    let group = entry.raw().trim_start_matches(['@', '+', '&']);
    if group.len() == entry.raw().len() {
        return entry.raw().eq_ignore_ascii_case(user.raw());
    }
    let Some(account) = site.account(server, user) else { return false };
    let gid = site.gid_of(server, &group.into());
    gid.is_some_and(|gid| site.login(server, account).is_in(gid))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::layout::host::{Host, HostRole};
    use crate::layout::site::Layout;
    use crate::words::terms::Group;

    fn site() -> Site {
        let account = |name: &str, uid, gid, groups: &[&str]| Account {
            name: name.into(),
            uid,
            gid: Some(gid),
            groups: groups.iter().copied().map(Name::from).collect(),
        };
        let group = |name: &str, gid| Group { name: name.into(), gid };
        let granary = Host {
            name: "granary".into(),
            roles: vec![HostRole::Storage],
            accounts: vec![
                account("mira", 1101, 11, &["keepers"]),
                account("oskar", 1102, 12, &[]),
                account("nobody", 65534, 65534, &[]),
            ],
            groups: vec![group("keepers", 2100), group("stagehands", 2200), group("own", 12)],
            ..Host::default()
        };
        Site::join(Layout { hosts: vec![granary], ..Layout::default() }, Vec::new()).unwrap()
    }

    /// What a server answered when it was asked, each a disagreement once.
    #[test]
    fn sessions_are_what_a_server_makes_of_them() {
        let mira = || Login::As("mira".into());
        let oskar = || Login::As("oskar".into());
        let names = |names: &[&str]| names.iter().copied().map(Name::from).collect::<Vec<_>>();
        let some = |name: &str| Some(name.into());
        let open = SmbOffer { writable: true, ..SmbOffer::default() };
        let cases: Vec<(Login, SmbOffer, &str)> = vec![
            (mira(), open.clone(), "1101:11 +2100 rw"),
            (
                Login::As("MIRA".into()),
                SmbOffer { only: names(&["Mira"]), ..open.clone() },
                "1101:11 +2100 rw",
            ),
            // A group counts its members by their primary group as well.
            (oskar(), SmbOffer { only: names(&["@own"]), ..open.clone() }, "1102:12 rw"),
            (oskar(), SmbOffer { only: names(&["@keepers"]), ..open.clone() }, "refused"),
            (mira(), SmbOffer { read: names(&["mira"]), ..open.clone() }, "1101:11 +2100 ro"),
            (
                mira(),
                SmbOffer { read: names(&["mira"]), write: names(&["@keepers"]), ..open.clone() },
                "1101:11 +2100 rw",
            ),
            // Guests-only: the lists are judged for whoever connects.
            (
                mira(),
                SmbOffer { guests: true, guest_only: true, only: names(&["mira"]), ..open.clone() },
                "65534:65534 rw",
            ),
            (
                Login::Anonymous,
                SmbOffer { guests: true, only: names(&["mira"]), ..open.clone() },
                "refused",
            ),
            (Login::Anonymous, SmbOffer { guests: true, ..open.clone() }, "65534:65534 rw"),
            // An administrator is root, whoever is forced.
            (
                mira(),
                SmbOffer { admins: names(&["mira"]), force_user: some("oskar"), ..open.clone() },
                "0:12 rw",
            ),
            // The forced group stands in front, the old primary one stays.
            (
                oskar(),
                SmbOffer { force_group: some("stagehands"), ..open.clone() },
                "1102:2200 +12 rw",
            ),
            (oskar(), SmbOffer { force_group: some("+stagehands"), ..open.clone() }, "1102:12 rw"),
            (
                mira(),
                SmbOffer { force_group: some("+keepers"), ..open.clone() },
                "1101:2100 +11 rw",
            ),
            // Of a forced user the server itself no longer counts the old primary group; of a
            // guest, no longer everyone.
            (
                mira(),
                SmbOffer {
                    force_user: some("oskar"),
                    force_group: some("stagehands"),
                    ..open.clone()
                },
                "1102:2200 +12 rw without 12",
            ),
            (
                Login::Anonymous,
                SmbOffer { guests: true, force_group: some("keepers"), ..open.clone() },
                "65534:2100 +65534 rw without everyone",
            ),
            // Where everyone is a guest, that guest is everyone still.
            (
                mira(),
                SmbOffer {
                    guests: true,
                    guest_only: true,
                    force_group: some("keepers"),
                    ..open.clone()
                },
                "65534:2100 +65534 rw",
            ),
            // A forced user who is not in the group that is asked for with + can't connect at all.
            (
                mira(),
                SmbOffer {
                    force_user: some("oskar"),
                    force_group: some("+keepers"),
                    ..open.clone()
                },
                "refused",
            ),
        ];
        let site = site();
        for (login, offer, expected) in cases {
            let session = match connect(&site, &"granary".into(), &offer, &login) {
                Session::Refused(_) => "refused".to_owned(),
                Session::Open { subject, access, .. } => {
                    let token = subject.token;
                    let group = token.without_group.map(|gid| format!(" without {gid}"));
                    let everyone = if token.without_everyone { " without everyone" } else { "" };
                    format!("{subject} {}{}{everyone}", access.word(), group.unwrap_or_default())
                }
            };
            assert_eq!(session, expected, "{login:?} on {offer:?}");
        }
    }
}
