//! Access over NFS, against a real server: squash variants, anonymous ids, read-only exports,
//! groups that the server looks up. The client is a library in this process that sends any AUTH_SYS
//! credential; what a client kernel does before that (no more than 16 groups) is done as
//! `over_auth_sys` says.

use std::collections::BTreeMap;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use nfs3_client::nfs3_types::nfs3::{
    ACCESS3_EXTEND, ACCESS3_LOOKUP, ACCESS3_MODIFY, ACCESS3_READ, ACCESS3args, CREATE3args,
    LOOKUP3args, Nfs3Option, Nfs3Result, REMOVE3args, RENAME3args, createhow3, diropargs3,
    filename3, nfs_fh3, nfsstat3, sattr3,
};
use nfs3_client::nfs3_types::rpc::{auth_unix, opaque_auth};
use nfs3_client::nfs3_types::xdr_codec::Opaque;
use nfs3_client::tokio::{TokioConnector, TokioIo};
use nfs3_client::{Nfs3Client, Nfs3ConnectionBuilder};
use tarvek_core::judge::access_check::judge;
use tarvek_core::judge::verdict::Need;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::layout::site::Layout;
use tarvek_core::route::follow;
use tarvek_core::route::hops::View;
use tokio::net::TcpStream;

use crate::access::{self, Place};
use crate::kernel::{self, Who};
use crate::people;
use crate::random::{self, Random};

const NFS: u16 = 20_490;
const MOUNT: u16 = 20_491;

#[test]
fn the_server_answers_as_predicted() {
    kernel::private_mounts();
    let mut random = Random::from_env("nfs");
    let _ports = Ports::start();
    let (mut cases, mut outcomes) = (0u64, BTreeMap::<(bool, &str), u64>::new());
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    for n in 0..random::cases(3) {
        let place = Place::new();
        let top = place.top();
        let mut paths = random::tree(&mut random, &top, 4);
        random::rights(&mut random, &top);
        paths.retain(|path| !path.is_symlink());
        // This server decides by mode bits alone, where a kernel's also goes by POSIX ACLs.
        let plain = Command::new("setfacl").args(["-R", "-P", "-b"]).arg(&top).status().unwrap();
        assert!(plain.success());
        let exports: Vec<Export> = (0..8).map(|id| Export::random(&mut random, id)).collect();
        let people: Vec<Who> =
            (0..5).map(|_| access::subject(&mut random)).map(plain_root).collect();
        let base = access::look(&top, Layout::default());
        let host = access::host(&base);
        people::make_known(people::distinct(&people), place.folder());
        let server = Server::start(&top, &exports, place.folder());
        for export in &exports {
            let site = access::look(&top, layout(host.raw(), &top, export, &people));
            let source = format!("{host}:{}", top.display());
            let site = site.with(people::client("nfs4", &source, "rw,vers=4.2")).unwrap();
            for who in &people {
                let tried = runtime.block_on(tries(export, who, &top, &paths));
                for ((path, need), really) in tried {
                    let asked = Path::new("/mnt").join(path.strip_prefix(&top).unwrap());
                    let subject = Subject::new(who.uid, who.gid, who.groups.iter().copied());
                    let view = View::host("client");
                    let route = follow(&site, &view, &access::abs(&asked), &subject);
                    let verdict = judge(&site, &route, need);
                    assert!(
                        verdict.allowed() == Some(really),
                        "{} of {path:?} as {who:?} over {export:?}, tree {n}: it was {really}, but \
                         {}\n{}",
                        need.word(),
                        verdict.reason(),
                        kernel::listing(&path)
                    );
                    cases += 1;
                    *outcomes.entry((really, need.word())).or_insert(0) += 1;
                }
            }
        }
        drop(server);
        people::forget();
    }
    eprintln!("nfs: {cases} cases, {outcomes:?}");
    assert!(outcomes.keys().any(|(allowed, _)| *allowed), "nothing was allowed");
}

/// This server squashes root's group and groups with it, where a kernel's replaces each id by
/// itself: root comes alone.
fn plain_root(who: Who) -> Who {
    if who.uid == 0 { Who { uid: 0, gid: 0, groups: Vec::new() } } else { who }
}

/// One export of a tree.
#[derive(Clone, Debug)]
struct Export {
    id: u16,
    squash: &'static str,
    access: &'static str,
    anonuid: u32,
    anongid: u32,
    manage_gids: bool,
}

impl Export {
    fn random(random: &mut Random, id: u16) -> Self {
        Self {
            id,
            squash: *random.one(&["root", "root", "all", "none"]),
            access: *random.one(&["rw", "rw", "ro"]),
            anonuid: *random.one(&[65534, 71_001, 71_002]),
            anongid: *random.one(&[65534, 72_001, 72_002]),
            manage_gids: random.rarely(4),
        }
    }

    /// As the server's configuration writes it.
    fn text(&self, top: &Path) -> String {
        let squash = match self.squash {
            "root" => "Root_Squash",
            "all" => "All_Squash",
            _ => "No_Root_Squash",
        };
        format!(
            "EXPORT {{ Export_Id = {}; Path = {}; Pseudo = /e{}; Tag = e{}; Access_Type = {}; \
             Squash = {squash}; \
             Anonymous_Uid = {}; Anonymous_Gid = {}; Manage_Gids = {}; SecType = sys; Protocols = \
             3; Transports = TCP; \
             FSAL {{ Name = VFS; }} }}\n",
            self.id + 1,
            top.display(),
            self.id,
            self.id,
            self.access.to_uppercase(),
            self.anonuid,
            self.anongid,
            self.manage_gids
        )
    }
}

fn layout(host: &str, top: &Path, export: &Export, people: &[Who]) -> Layout {
    let text = format!(
        "tarvek = 1\nsite = \"x\"\n[host.{host:?}]\nrole = \"storage\"\nmanage_gids = {}\n{}\
         [host.client]\nrole = \"client\"\n\
         [share.media]\nhost = {host:?}\npath = {:?}\n\
         nfs = [{{ clients = \"*\", access = {:?}, squash = {:?}, anonuid = {}, anongid = {} }}]\n\
         [[mount]]\nhost = \"client\"\nfrom = \"{host}:media\"\nprotocol = \"nfs\"\nat \
         = \"/mnt\"\n",
        export.manage_gids,
        people::declared(people),
        top.to_str().unwrap(),
        export.access,
        export.squash,
        export.anonuid,
        export.anongid
    );
    tarvek_formats::layout::read("layout", text.as_bytes())
        .unwrap_or_else(|error| panic!("{error:?}\n{text}"))
}

/// The port mapper, if none runs yet.
struct Ports(Option<Child>);

impl Ports {
    fn start() -> Self {
        let running = || std::net::TcpStream::connect(("127.0.0.1", 111)).is_ok();
        if running() {
            return Self(None);
        }
        let child = Command::new("rpcbind").arg("-f").spawn().expect("rpcbind");
        people::wait_for("rpcbind", running);
        Self(Some(child))
    }
}

impl Drop for Ports {
    fn drop(&mut self) {
        if let Some(child) = &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

struct Server(Child);

impl Server {
    fn start(top: &Path, exports: &[Export], scratch: &Path) -> Self {
        let exports: String = exports.iter().map(|export| export.text(top)).collect();
        let text = format!(
            "NFS_CORE_PARAM {{ NFS_Port = {NFS}; MNT_Port = {MOUNT}; Rquota_Port = 20492; NLM_Port \
             = 20493; \
             Bind_addr = 127.0.0.1; Enable_NLM = false; Enable_RQUOTA = false; NFS_Protocols = 3; \
             }}\n\
             NFSV4 {{ Graceless = true; }}\nLOG {{ Default_Log_Level = EVENT; }}\n{exports}"
        );
        let (conf, log) = (scratch.join("ganesha.conf"), scratch.join("ganesha.log"));
        std::fs::write(&conf, text).unwrap();
        let child = Command::new("ganesha.nfsd")
            .arg("-F")
            .arg("-f")
            .arg(&conf)
            .arg("-L")
            .arg(&log)
            .arg("-p")
            .arg(scratch.join("ganesha.pid"))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("ganesha.nfsd");
        people::wait_for("the NFS server", || {
            std::fs::read_to_string(&log).is_ok_and(|log| log.contains("NFS SERVER INITIALIZED"))
        });
        Self(child)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

type Client = Nfs3Client<TokioIo<TcpStream>>;

/// Tries everything on a tree through one export.
async fn tries(
    export: &Export,
    who: &Who,
    top: &Path,
    paths: &[PathBuf],
) -> Vec<((PathBuf, Need), bool)> {
    let mut groups: Vec<u32> = who.groups.iter().copied().filter(|gid| *gid != who.gid).collect();
    groups.sort_unstable();
    groups.dedup();
    // A credential has room for no more (RFC 5531, appendix A).
    groups.truncate(16);
    let credential = opaque_auth::auth_unix(&auth_unix {
        stamp: 0,
        machinename: Opaque::borrowed(b"client"),
        uid: who.uid,
        gid: who.gid,
        gids: groups,
    });
    let connection =
        Nfs3ConnectionBuilder::new(TokioConnector, "127.0.0.1", format!("e{}", export.id))
            // There are few privileged ports, and this server asks for none.
            .connect_from_privileged_port(false)
            .mount_port(MOUNT)
            .nfs3_port(NFS)
            .credential(credential)
            .mount()
            .await
            .expect("the export can be mounted");
    let root = connection.root_nfs_fh3();
    let mut client = connection.into_nfs3_client();
    let mut all = Vec::new();
    for (n, path) in paths.iter().enumerate() {
        let parts: Vec<&[u8]> =
            path.strip_prefix(top).unwrap().iter().map(|part| part.as_bytes()).collect();
        let folder = path.is_dir();
        let (name, above) = parts.split_last().unwrap();
        let mut parent = Some(root.clone());
        for part in above {
            parent = match parent {
                Some(parent) => lookup(&mut client, &parent, part).await,
                None => None,
            };
        }
        let object = match &parent {
            Some(parent) => lookup(&mut client, parent, name).await,
            None => None,
        };
        let mut say = |need, allowed| all.push(((path.clone(), need), allowed));
        let may = async |client: &mut Client, bits: u32| match &object {
            Some(object) => granted(client, object, bits).await,
            None => false,
        };
        if folder {
            say(Need::Read, may(&mut client, ACCESS3_LOOKUP | ACCESS3_READ).await);
            say(Need::Enter, may(&mut client, ACCESS3_LOOKUP).await);
            say(
                Need::Add,
                match &object {
                    Some(object) => added(&mut client, object, n).await,
                    None => false,
                },
            );
        } else if path.extension().is_none_or(|ending| ending != "fifo") {
            say(Need::Read, may(&mut client, ACCESS3_READ).await);
            say(Need::Write, may(&mut client, ACCESS3_MODIFY | ACCESS3_EXTEND).await);
        }
        let removed = match (&parent, &object) {
            (Some(parent), Some(_)) => renamed(&mut client, parent, name, n).await,
            _ => false,
        };
        all.push(((path.clone(), Need::Remove), removed));
    }
    all
}

fn at<'a>(folder: &nfs_fh3, name: &'a [u8]) -> diropargs3<'a> {
    diropargs3 { dir: folder.clone(), name: filename3(Opaque::borrowed(name)) }
}

async fn lookup(client: &mut Client, folder: &nfs_fh3, name: &[u8]) -> Option<nfs_fh3> {
    match client.lookup(&LOOKUP3args { what: at(folder, name) }).await.unwrap() {
        Nfs3Result::Ok(found) => Some(found.object),
        Nfs3Result::Err((nfsstat3::NFS3ERR_ACCES | nfsstat3::NFS3ERR_PERM, _)) => None,
        Nfs3Result::Err((error, _)) => panic!("lookup: {error:?}"),
    }
}

async fn granted(client: &mut Client, object: &nfs_fh3, bits: u32) -> bool {
    match client.access(&ACCESS3args { object: object.clone(), access: bits }).await.unwrap() {
        Nfs3Result::Ok(answer) => answer.access & bits == bits,
        Nfs3Result::Err((error, _)) => panic!("access: {error:?}"),
    }
}

/// What refuses; anything else is no answer.
fn refused(error: nfsstat3) -> bool {
    let refusals = [nfsstat3::NFS3ERR_ACCES, nfsstat3::NFS3ERR_PERM, nfsstat3::NFS3ERR_ROFS];
    assert!(refusals.contains(&error), "{error:?}");
    false
}

async fn added(client: &mut Client, folder: &nfs_fh3, n: usize) -> bool {
    let name = format!("tried {n}").into_bytes();
    let how = createhow3::GUARDED(sattr3::default());
    match client.create(&CREATE3args { where_: at(folder, &name), how }).await.unwrap() {
        Nfs3Result::Ok(made) => {
            assert!(matches!(made.obj, Nfs3Option::Some(_)));
            let gone = client.remove(&REMOVE3args { object: at(folder, &name) }).await.unwrap();
            assert!(matches!(gone, Nfs3Result::Ok(_)), "{gone:?}");
            true
        }
        Nfs3Result::Err((error, _)) => refused(error),
    }
}

/// A removal that can be taken back.
async fn renamed(client: &mut Client, folder: &nfs_fh3, name: &[u8], n: usize) -> bool {
    let other = format!("gone {n}").into_bytes();
    let there = RENAME3args { from: at(folder, name), to: at(folder, &other) };
    match client.rename(&there).await.unwrap() {
        Nfs3Result::Ok(_) => {
            let back = RENAME3args { from: at(folder, &other), to: at(folder, name) };
            let back = client.rename(&back).await.unwrap();
            assert!(matches!(back, Nfs3Result::Ok(_)), "{back:?}");
            true
        }
        Nfs3Result::Err((error, _)) => refused(error),
    }
}
