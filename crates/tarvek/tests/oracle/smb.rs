//! Access over SMB, against a real smbd: who may connect, who may write, forced users and groups,
//! guests, masks. Its configuration is what `emit` makes of the layout; the client is `smbclient`,
//! as several users and as nobody.

use std::collections::BTreeMap;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use tarvek_core::facts::tree::Lookup;
use tarvek_core::judge::access_check::judge;
use tarvek_core::judge::made::new_entry;
use tarvek_core::judge::verdict::Need;
use tarvek_core::kernel::decide::{R, W, decide};
use tarvek_core::kernel::new_entry::Making;
use tarvek_core::kernel::object::Object;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::layout::site::Layout;
use tarvek_core::route::end::End;
use tarvek_core::route::follow;
use tarvek_core::route::hops::{Route, View};
use tarvek_core::site::join::Site;

use crate::access::{self, Place};
use crate::kernel::{self, Who};
use crate::people;
use crate::random::{self, GIDS, Random, UIDS};

const PORT: u16 = 20_445;
const PASSWORD: &str = "weir";
const SHARES: usize = 8;
const MARK: &str = "weirmark";

#[test]
fn the_server_answers_as_predicted() {
    kernel::private_mounts();
    let mut random = Random::from_env("smb");
    let mut outcomes = BTreeMap::<(&str, &str), u64>::new();
    for n in 0..random::cases(2) {
        let place = Place::new();
        let top = place.top();
        let mut paths = random::tree(&mut random, &top, 3);
        while paths.len() < 12 {
            let more = top.join(format!("more {}", paths.len()));
            std::fs::create_dir(&more).unwrap();
            paths.extend(random::tree(&mut random, &more, 2));
            paths.push(more);
        }
        // A closed top would end everything at the first step.
        if random.rarely(4) {
            random::rights(&mut random, &top);
        }
        // The client's command line can't say every name.
        // To SMB a backslash is what a slash is elsewhere.
        paths.retain(|path| !path.is_symlink() && !path.to_str().unwrap().contains(['\n', '\\']));
        for path in paths.iter().filter(|path| path.is_dir()) {
            random::inheritance(&mut random, path);
        }
        let people: Vec<Who> = UIDS[1..].iter().map(|uid| person(&mut random, *uid)).collect();
        let shares: Vec<String> = (0..SHARES).map(|_| offer(&mut random)).collect();
        people::make_known(people.iter().collect(), place.folder());
        let host = access::host(&access::look(&top, Layout::default()));
        let text = layout(host.raw(), &top, &shares, &people, "");
        let declared = tarvek_formats::layout::read("layout", text.as_bytes());
        let declared = declared.unwrap_or_else(|error| panic!("{error:?}\n{text}"));
        let server = Server::start(&declared, host.raw(), &people, place.folder());
        for (share, offer) in shares.iter().enumerate() {
            for who in people.iter().map(Some).chain([None]) {
                let login = who
                    .map_or("guest".to_owned(), |who| format!("user = \"{}\"", people::name(who)));
                let options = if who.is_some() { "" } else { "guest," };
                let mount = format!(
                    "[[mount]]\nhost = \"client\"\nfrom = \"{host}:e{share}\"\nprotocol = \"smb\"\n\
                     at = \"/mnt\"\noptions = \"{options}noperm\"\n{}\n",
                    if who.is_some() { login.as_str() } else { "" }
                );
                let text = layout(host.raw(), &top, &shares, &people, &mount);
                let source = format!("//{host}/e{share}");
                let shown =
                    who.map_or(String::new(), |who| format!("username={},", people::name(who)));
                let client = people::client("cifs", &source, &format!("rw,{options}{shown}noperm"));
                let look = || {
                    let layout = tarvek_formats::layout::read("layout", text.as_bytes()).unwrap();
                    access::look(&top, layout).with(client.clone()).unwrap()
                };
                let case = Case { site: look(), top: &top, share, who };
                let context = format!("{login} {who:?} (of {people:?}) on {offer}, tree {n}");
                case.compare(&paths, &context, place.folder(), look, &mut outcomes);
            }
        }
        drop(server);
        people::forget();
    }
    eprintln!("smb: {} cases, {outcomes:?}", outcomes.values().sum::<u64>());
    assert!(outcomes.keys().any(|(_, came)| *came == "yes"), "nothing was allowed");
}

fn person(random: &mut Random, uid: u32) -> Who {
    let groups = (0..random.below(3)).map(|_| *random.one(&GIDS[1..])).collect();
    Who { uid, gid: *random.one(&GIDS[1..]), groups }
}

/// A random offer, as the layout writes it.
fn offer(random: &mut Random) -> String {
    let mut parts = Vec::new();
    let guests = random.rarely(3);
    parts.push(format!("guests = {guests}"));
    if guests && random.rarely(3) {
        parts.push("guest_only = true".to_owned());
    }
    parts.push(format!("writable = {}", random.rarely(2)));
    for (key, often) in [("only", 3), ("deny", 4), ("read", 4), ("write", 3), ("admins", 8)] {
        if random.rarely(often) {
            let one = |random: &mut Random| match random.below(3) {
                0 => format!("\"@g{}\"", random.one(&GIDS[1..])),
                _ => format!("\"u{}\"", random.one(&UIDS[1..])),
            };
            parts.push(format!("{key} = [{}, {}]", one(random), one(random)));
        }
    }
    if random.rarely(4) {
        parts.push(format!("force_user = \"u{}\"", random.one(&UIDS[1..])));
    }
    if random.rarely(4) {
        let plus = if random.rarely(2) { "+" } else { "" };
        parts.push(format!("force_group = \"{plus}g{}\"", random.one(&GIDS[1..])));
    }
    for (key, modes) in [
        ("create_mask", ["0664", "0640", "0600"]),
        ("folder_mask", ["0775", "0750", "2775"]),
        ("force_create_mode", ["0020", "0060", "0004"]),
        ("force_folder_mode", ["0070", "0010", "0005"]),
    ] {
        if random.rarely(3) {
            parts.push(format!("{key} = \"{}\"", random.one(&modes)));
        }
    }
    format!("{{ {} }}", parts.join(", "))
}

fn layout(host: &str, top: &Path, shares: &[String], people: &[Who], more: &str) -> String {
    let mut text = format!(
        "tarvek = 1\nsite = \"x\"\n[host.{host:?}]\nrole = \"storage\"\n{}[host.client]\nrole \
         = \"client\"\n",
        people::declared(people)
    );
    for (n, offer) in shares.iter().enumerate() {
        text += &format!(
            "[share.e{n}]\nhost = {host:?}\npath = {:?}\nsmb = {offer}\n",
            top.to_str().unwrap()
        );
    }
    text + more
}

pub struct Server(Child);

impl Server {
    fn start(layout: &Layout, host: &str, people: &[Who], scratch: &Path) -> Self {
        let declared = layout.host(&host.into()).unwrap();
        let stanzas: String = tarvek_formats::emit::smb(layout, declared, "layout")
            .unwrap()
            .into_iter()
            .map(|piece| piece.text)
            .collect();
        Self::with(&stanzas, people, scratch)
    }

    /// With stanzas of shares, for people that the system knows.
    pub fn with(stanzas: &str, people: &[Who], scratch: &Path) -> Self {
        let state = scratch.join("state");
        std::fs::create_dir_all(&state).unwrap();
        let at = |what: &str| format!("{what} = {}\n", state.display());
        let folders: String = [
            "lock directory",
            "state directory",
            "cache directory",
            "private dir",
            "pid directory",
            "ncalrpc dir",
        ]
        .map(at)
        .concat();
        let conf = scratch.join("smb.conf");
        let global = format!(
            "[global]\nserver role = standalone server\nsmb ports = {PORT}\ninterfaces = lo\nbind \
             interfaces only = yes\n\
             disable spoolss = yes\nload printers = no\nhide dot files = no\nlog file = {0}/log\n\
             log level = 1\nmap to guest = never\n{folders}\n",
            state.display()
        );
        std::fs::write(&conf, global + stanzas).unwrap();
        for who in people {
            let secret = state.join("password");
            std::fs::write(&secret, format!("{PASSWORD}\n{PASSWORD}\n")).unwrap();
            let made = Command::new("smbpasswd")
                .args(["-a", "-s", "-c"])
                .arg(&conf)
                .arg(people::name(who))
                .stdin(std::fs::File::open(&secret).unwrap())
                .output()
                .unwrap();
            assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        }
        let child = Command::new("smbd")
            .args(["--foreground", "--no-process-group", "-s"])
            .arg(&conf)
            // When it ends it signals its whole group, which is not to be this process's.
            .process_group(0)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("smbd");
        people::wait_for("smbd", || std::net::TcpStream::connect(("127.0.0.1", PORT)).is_ok());
        Self(child)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let pid = nix::unistd::Pid::from_raw(self.0.id() as i32);
        let _ = nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGTERM);
        let _ = self.0.wait();
    }
}

/// Runs commands in one session; what came back for each, in order. What it said if the session was
/// refused.
pub fn session(share: &str, who: Option<&Who>, commands: &[String]) -> Result<Vec<String>, String> {
    let mut command = Command::new("smbclient");
    command.arg(format!("//127.0.0.1/{share}")).args(["-p", &PORT.to_string(), "-m", "SMB3"]);
    match who {
        Some(who) => command.arg("-U").arg(format!("{}%{PASSWORD}", people::name(who))),
        None => command.arg("-N"),
    };
    let (mut reader, writer) = std::io::pipe().unwrap();
    command.stdin(Stdio::piped()).stdout(writer.try_clone().unwrap()).stderr(writer);
    let mut child = command.spawn().expect("smbclient");
    // The command holds the other ends of the pipe.
    drop(command);
    // A command that there is not marks where the answer to the next one begins.
    let input: String = commands.iter().map(|one| format!("{MARK}\n{one}\n")).collect();
    let mut stdin = child.stdin.take().unwrap();
    std::io::Write::write_all(&mut stdin, input.as_bytes()).unwrap();
    drop(stdin);
    let mut text = String::new();
    std::io::Read::read_to_string(&mut reader, &mut text).unwrap();
    child.wait().unwrap();
    if text.contains("tree connect failed") || text.contains("session setup failed") {
        return Err(text);
    }
    let mut parts = text
        .split(&format!("{MARK}: command not found\n"))
        .skip(1)
        .map(str::to_owned)
        .collect::<Vec<_>>();
    assert_eq!(parts.len(), commands.len(), "{text}");
    parts.iter_mut().for_each(|part| *part = part.trim().to_owned());
    Ok(parts)
}

/// One user on one share.
struct Case<'a> {
    site: Site,
    top: &'a Path,
    share: usize,
    who: Option<&'a Who>,
}

impl Case<'_> {
    fn route(&self, path: &Path) -> Route {
        let asked = Path::new("/mnt").join(path.strip_prefix(self.top).unwrap());
        let view = View::host("client");
        follow(&self.site, &view, &access::abs(&asked), &Subject::new(0, 0, []))
    }

    fn session(&self, commands: &[String]) -> Result<Vec<String>, String> {
        session(&format!("e{}", self.share), self.who, commands)
    }

    fn compare(
        &self,
        paths: &[PathBuf],
        context: &str,
        scratch: &Path,
        look: impl Fn() -> Site,
        outcomes: &mut BTreeMap<(&'static str, &'static str), u64>,
    ) {
        let mut tally = |what: &'static str, came: bool| {
            *outcomes.entry((what, if came { "yes" } else { "no" })).or_insert(0) += 1;
        };
        let refused = matches!(self.route(self.top).end, End::NotAdmitted { .. });
        let opened = self.session(&["pwd".to_owned()]);
        assert_eq!(
            opened.is_err(),
            refused,
            "the session of {context}: {:?} {opened:?}",
            self.route(self.top).end
        );
        tally("connect", opened.is_ok());
        if refused {
            return;
        }
        let local = scratch.join("upload");
        std::fs::write(&local, b"x").unwrap();
        for (n, path) in paths.iter().enumerate() {
            let name = path.strip_prefix(self.top).unwrap().to_str().unwrap().replace('/', "\\");
            let route = self.route(path);
            let may = |need| judge(&self.site, &route, need);
            if path.extension().is_some_and(|ending| ending == "fifo") {
                continue;
            }
            let fine = |came: &str| !came.contains("NT_STATUS_");
            let check = |what: &'static str, predicted: bool, came: &str, reason: &str| {
                assert_eq!(
                    predicted,
                    fine(came),
                    "{what} of {path:?} by {context}: {came}; {reason}\n{}",
                    kernel::listing(path)
                );
            };
            let away = format!("gone {n}");
            let parent =
                name.rsplit_once('\\').map_or(String::new(), |(parent, _)| format!("{parent}\\"));
            if path.is_dir() {
                let commands = [
                    format!("ls \"{name}\\*\""),
                    format!("put {} \"{name}\\new {n}\"", local.display()),
                    format!("mkdir \"{name}\\made {n}\""),
                    format!("rename \"{name}\" \"{parent}{away}\""),
                    format!("rename \"{parent}{away}\" \"{name}\""),
                ];
                let came = self.session(&commands).unwrap();
                // Dangling links and names that it has to change are shown otherwise.
                let plain = |entry: &std::fs::DirEntry| {
                    let kind = entry.file_type().unwrap();
                    (kind.is_file() || kind.is_dir())
                        && !entry.file_name().to_string_lossy().contains('\n')
                };
                let children = std::fs::read_dir(path)
                    .unwrap()
                    .filter(|entry| plain(entry.as_ref().unwrap()))
                    .count();
                if children > 0 {
                    let read = may(Need::Read);
                    // Without search the server shows the folder as empty.
                    let listed = fine(&came[0]) && came[0].lines().count() > 3;
                    let said = if listed { "" } else { "NT_STATUS_ACCESS_DENIED or empty: " };
                    let said = format!("{said}{}", came[0]);
                    check("read", read.is_allowed(), &said, read.reason());
                    tally("read", listed);
                }
                let add = may(Need::Add);
                check("add", add.is_allowed(), &came[1], add.reason());
                tally("add", fine(&came[1]));
                let made = [
                    (path.join(format!("new {n}")), false),
                    (path.join(format!("made {n}")), true),
                ];
                if fine(&came[1]) {
                    let after = look();
                    for (made, folder) in &made {
                        let found = seen(&after, made).unwrap_or_else(|| {
                            panic!("{made:?} is not there: {came:?}, {context}")
                        });
                        let predicted =
                            new_entry(&self.site, &route, Making::usual(*folder, 0o022)).unwrap();
                        assert_eq!(
                            crate::newfile::words(&predicted),
                            crate::newfile::words(&found),
                            "{made:?} by {context}\n{}{}",
                            kernel::listing(path),
                            acl(path)
                        );
                        tally("new", true);
                    }
                }
                let _ = std::fs::remove_file(&made[0].0);
                let _ = std::fs::remove_dir(&made[1].0);
                let remove = may(Need::Remove);
                check("remove", remove.is_allowed(), &came[3], remove.reason());
                tally("remove", fine(&came[3]));
            } else {
                let commands = [
                    format!("get \"{name}\" /dev/null"),
                    format!("put {} \"{name}\"", local.display()),
                    format!("rename \"{name}\" \"{parent}{away}\""),
                    format!("rename \"{parent}{away}\" \"{name}\""),
                ];
                let came = self.session(&commands).unwrap();
                let read = may(Need::Read);
                check("read", read.is_allowed(), &came[0], read.reason());
                tally("read", fine(&came[0]));
                // This client opens what it overwrites for reading too, in one request.
                let write = may(Need::Write);
                let both = both_at_once(&self.site, &route);
                check("write", write.is_allowed() && both, &came[1], write.reason());
                tally("write", fine(&came[1]));
                let remove = may(Need::Remove);
                check("remove", remove.is_allowed(), &came[2], remove.reason());
                tally("remove", fine(&came[2]));
            }
        }
    }
}

fn both_at_once(site: &Site, route: &Route) -> bool {
    route.entry().is_some_and(|(step, node)| {
        let object = site.object(&step.seen_on, node).unwrap();
        decide(&object, &step.subject, R | W).allowed
    })
}

fn seen<'a>(site: &'a Site, path: &Path) -> Option<Object<'a>> {
    let host = site.observed().map(|(host, _)| host.to_owned()).find(|host| host != "client")?;
    match site.tree(&host)?.find(&access::abs(path)) {
        Lookup::Found(node) => site.object(&host, node),
        _ => None,
    }
}

fn acl(path: &Path) -> String {
    let output = Command::new("getfacl").args(["-n", "-p"]).arg(path).output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}
