//! Who somebody becomes on an SMB server, and what its share then allows (`smb.conf(5)`); and what a client's mount options
//! allow before anything is asked of the server (`mount.cifs(8)`).

use std::sync::Arc;

use crate::facts::tree::{EntryKind, Meta};
use crate::identity::{Subject, Token};
use crate::layout::{Account, Mode, Os, SmbOffer};
use crate::path::AbsPath;
use crate::site::Site;
use crate::text::shown;

/// The account that guests become unless a server says otherwise (`guest account`).
const GUEST: &str = "nobody";

/// Who connects.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Login {
    /// With a name and its password.
    As(String),
    /// Without either.
    Anonymous,
    /// Nobody says; a credentials file holds the name, and is not read.
    Unsaid,
}

impl Login {
    /// The one of a mount's options: `guest`, or `username=` (`mount.cifs(8)`).
    pub fn of_mount(user: Option<&str>, options: &[String]) -> Self {
        let value = |option: &String| {
            let (key, value) = option.split_once('=')?;
            matches!(key, "username" | "user").then(|| value.to_owned())
        };
        let named = user.map(str::to_owned).or_else(|| options.iter().find_map(value));
        match named {
            Some(user) => Self::As(user),
            None if options.iter().any(|o| matches!(o.as_str(), "guest" | "sec=none")) => {
                Self::Anonymous
            }
            None => Self::Unsaid,
        }
    }
}

/// A session with a share.
#[derive(Clone, Debug, PartialEq)]
pub enum Session {
    /// The server lets it in.
    Open {
        /// Who acts in the filesystem.
        subject: Subject,
        /// Whether the share may be written.
        mode: Mode,
        /// What changed the identity, in words.
        by: String,
    },
    /// The server refuses.
    Refused(String),
}

/// What a server makes of somebody who connects to a share. The order is smbd's: who it is, whether the lists admit him,
/// whether he may write, and only then whom he acts as.
pub fn connect(site: &Site, server: &str, offer: &SmbOffer, login: &Login) -> Session {
    let guest = || {
        let account = site.account(server, GUEST);
        account.map_or_else(
            || {
                (
                    GUEST.to_owned(),
                    Subject::new(crate::identity::NOBODY, crate::identity::NOBODY, []),
                )
            },
            |account| (account.name.clone(), site.login(server, account)),
        )
    };
    let (name, subject, mut by) = match login {
        Login::As(user) => match known(site, server, user) {
            Some(account) => {
                let by = format!("the mount connects as {}", shown(user.as_bytes()));
                (account.name.clone(), site.login(server, account), by)
            }
            None => {
                let why = format!(
                    "the mount connects as {}, of whom {server} is not known to have an account",
                    shown(user.as_bytes())
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
                mode: if writable_for_all(offer) { Mode::ReadWrite } else { Mode::ReadOnly },
                by: why,
            };
        }
    };
    let listed = |list: &[String]| list.iter().any(|entry| names(site, server, entry, &name));
    if listed(&offer.deny) {
        return Session::Refused(format!("the share refuses {}", shown(name.as_bytes())));
    }
    if !offer.only.is_empty() && !listed(&offer.only) {
        return Session::Refused(format!("the share does not admit {}", shown(name.as_bytes())));
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
                shown(user.as_bytes())
            )),
        };
        by += &format!("; the share forces the user {}", shown(user.as_bytes()));
    }
    if let Some(group) = &offer.force_group {
        let (plain, only_members) = match group.strip_prefix('+') {
            Some(group) => (group, true),
            None => (group.as_str(), false),
        };
        let shown_name = shown(plain.as_bytes());
        let guest = *login == Login::Anonymous || offer.guests && offer.guest_only;
        let named = offer.force_user.is_some();
        let forced_user = named || offer.guests && offer.guest_only;
        match site.gid_of(server, plain) {
            Some(gid) if !only_members || subject.is_in(gid) => {
                subject = with_group(subject, gid, named, guest);
                by += &format!("; the share forces the group {shown_name}");
            }
            Some(_) if forced_user => {
                let why = format!(
                    "the share forces a user who is not in {shown_name}, which it asks for"
                );
                return Session::Refused(why);
            }
            Some(_) => {}
            None => {
                subject = Subject::unknown(format!(
                    "the share forces the group {shown_name}, which {server} is not known to have"
                ));
            }
        }
    }
    // Whoever is an administrator of the share acts as root, a forced user or not.
    if listed(&offer.admins) {
        subject = Subject::new(0, subject.gid, subject.groups);
        by += ", as an administrator of the share: root";
    }
    Session::Open { subject, mode: if read_only { Mode::ReadOnly } else { Mode::ReadWrite }, by }
}

/// Puts a group in the place of the primary one, which stays among the groups as far as the kernel is concerned.
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

/// The account of a name that somebody connects with; servers compare such names without regard to case.
fn known<'a>(site: &'a Site, server: &'a str, user: &str) -> Option<&'a Account> {
    site.account(server, user)
        .or_else(|| site.accounts(server).find(|account| account.name.eq_ignore_ascii_case(user)))
}

/// Whether an entry of a list names somebody: himself, or a group of his (`@`, `+` or `&` before its name).
fn names(site: &Site, server: &str, entry: &str, user: &str) -> bool {
    let group = entry.trim_start_matches(['@', '+', '&']);
    if group.len() == entry.len() {
        return entry.eq_ignore_ascii_case(user);
    }
    let Some(account) = site.account(server, user) else { return false };
    let gid = site.gid_of(server, group);
    gid.is_some_and(|gid| site.login(server, account).is_in(gid))
}

/// The check that a client makes by itself at an SMB mount: the server's owners are not known there, so that all entries
/// have one owner, group and mode.
#[derive(Clone, Debug, PartialEq)]
pub struct Gate {
    /// The client.
    pub host: String,
    /// The mount point.
    pub point: AbsPath,
    /// Who asks there.
    pub subject: Subject,
    uid: u32,
    gid: u32,
    file_mode: u16,
    folder_mode: u16,
}

impl Gate {
    /// The check of a mount, from its options; `None` with `noperm`, and on systems that know no such check.
    pub fn of_mount(
        host: &str,
        os: Os,
        point: &AbsPath,
        options: &[String],
        subject: &Subject,
    ) -> Option<Arc<Self>> {
        let value = |key: &str| {
            options.iter().rev().find_map(|option| option.strip_prefix(key)?.strip_prefix('='))
        };
        if os != Os::Linux || options.iter().any(|option| option == "noperm") {
            return None;
        }
        let number = |key| value(key).and_then(|value| value.parse().ok());
        let mode = |key| value(key).and_then(|value| u16::from_str_radix(value, 8).ok());
        Some(Arc::new(Self {
            host: host.to_owned(),
            point: point.clone(),
            subject: subject.clone(),
            uid: number("uid").unwrap_or(0),
            gid: number("gid").unwrap_or(0),
            file_mode: mode("file_mode").unwrap_or(0o755) & 0o7777,
            folder_mode: mode("dir_mode").unwrap_or(0o755) & 0o7777,
        }))
    }

    /// What the client shows of an entry of the server.
    pub fn meta(&self, seen: &Meta) -> Meta {
        let folder = seen.kind == EntryKind::Folder;
        let mode = if folder { self.folder_mode } else { self.file_mode };
        Meta { mode, uid: self.uid, gid: self.gid, flags: None, ..*seen }
    }

    /// The options that decide for a file or folder.
    pub fn text(&self, folder: bool) -> String {
        let (key, mode) =
            if folder { ("dir_mode", self.folder_mode) } else { ("file_mode", self.file_mode) };
        format!("uid={},gid={},{key}={mode:04o}", self.uid, self.gid)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::layout::{Group, Host, HostRole, Layout};

    fn site() -> Site {
        let account = |name: &str, uid, gid, groups: &[&str]| Account {
            name: name.to_owned(),
            uid,
            gid: Some(gid),
            groups: groups.iter().map(ToString::to_string).collect(),
        };
        let group = |name: &str, gid| Group { name: name.to_owned(), gid };
        let granary = Host {
            name: "granary".to_owned(),
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
        let mira = || Login::As("mira".to_owned());
        let oskar = || Login::As("oskar".to_owned());
        let names = |names: &[&str]| names.iter().map(ToString::to_string).collect::<Vec<_>>();
        let some = |name: &str| Some(name.to_owned());
        let open = SmbOffer { writable: true, ..SmbOffer::default() };
        let cases: Vec<(Login, SmbOffer, &str)> = vec![
            (mira(), open.clone(), "1101:11 +2100 rw"),
            (
                Login::As("MIRA".to_owned()),
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
            // Of a forced user the server itself no longer counts the old primary group; of a guest, no longer everyone.
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
            let session = match connect(&site, "granary", &offer, &login) {
                Session::Refused(_) => "refused".to_owned(),
                Session::Open { subject, mode, .. } => {
                    let token = subject.token;
                    let group = token.without_group.map(|gid| format!(" without {gid}"));
                    let everyone = if token.without_everyone { " without everyone" } else { "" };
                    format!("{subject} {}{}{everyone}", mode.word(), group.unwrap_or_default())
                }
            };
            assert_eq!(session, expected, "{login:?} on {offer:?}");
        }
    }
}
