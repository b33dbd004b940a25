//! Mistakes in a layout or listing: all at once, each with its place and what would be right.

mod support;

use support::Folder;
use tarvek_core::layout::service::Translation;

const MISTAKES: &str = r#"tarvek = 1
site = "Kestrel Hollow"

[host.granary]
role = "storge"
datasets = [
  { name = "loft/media", at = "loft/media" },
  { name = "loft/media", at = "/loft" },
]

[host.millrace]
roel = "apps"
accounts = { lantern = { uid = "840" } }

[share.media]
host = "granery"
path = 5

[[mount]]
host = "millrace"
from = "granary:meda"
protocol = "nfs"
at = "/mnt/granary/media"
options = "ro,password=hunter2,x-mode=1"
pasword = "password=hunter2"

[service.lantern]
host = "millrace"
runs_as = "840:"
map = [{ from = "media", to = "/media", acess = "ro" }]
libraries = [{ name = "Films", kind = "film", roots = ["/media/films"] }, { name = "Films", kind = "films", roots = [] }]
"#;

#[test]
fn every_mistake_is_reported_at_once() {
    let folder = Folder::new();
    folder.write("tarvek.toml", MISTAKES);
    let answer = folder.run("check");
    insta::assert_snapshot!(answer.whole());
    assert!(!answer.stderr.contains("hunter2"), "a secret was printed");
}

#[test]
fn files_that_are_no_layout_are_refused_with_their_place() {
    let folder = Folder::new();
    let huge = "# filler\n".repeat(50 << 20 >> 3);
    for (text, place, words) in [
        (&b""[..], "x.toml:1:1", "the layout is empty"),
        (b"\n \n", "x.toml:1:1", "the layout is empty"),
        (b"tarvek = 2\nsite = 'x'\n", "x.toml:1:10", "another version"),
        (b"tarvek = 1\n", "x.toml:1:1", "\"site\" is missing"),
        (b"tarvek = 1\nsite = 'a\0b'\n", "x.toml:2:10", "a NUL byte"),
        (b"tarvek = 1\nsite = '\xff'\n", "x.toml:2:9", "no UTF-8"),
        (b"tarvek = 1\nsite = 'x\n", "x.toml:2:", "invalid literal string"),
        (b"\xef\xbb\xbftarvek = 1\r\nsite = 'x'\r\nsite = 'y'\r\n", "x.toml:3:1", "written twice"),
        (huge.as_bytes(), "x.toml", "too large"),
    ] {
        folder.write("x.toml", text);
        let answer = folder.run("check --layout x.toml");
        assert_eq!(answer.code, 2, "{}", answer.stderr);
        assert!(
            answer.stderr.contains(place) && answer.stderr.contains(words),
            "{}",
            answer.stderr
        );
        assert_eq!(answer.stdout, "");
    }
    let deep =
        format!("tarvek = 1\nsite = 'x'\nhost = {}{}\n", "[".repeat(20_000), "]".repeat(20_000));
    folder.write("x.toml", deep);
    assert_eq!(folder.run("check --layout x.toml").code, 2);
    assert_eq!(folder.run("check --layout missing.toml").code, 2);
    assert_eq!(folder.run("check --layout .").code, 2);
}

/// One mistake each in a layout that is otherwise right: what is said, and where.
#[test]
fn one_mistake_at_a_time() {
    for (from, to, words) in [
        (
            "from = \"granary:archive\"",
            "from = \"millrace:archive\"",
            "is offered by granary, not by millrace",
        ),
        (
            "at = \"/mnt/granary/archive\"",
            "at = \"/mnt/granary/media/\"",
            "millrace has a second mount",
        ),
        (
            "host = \"millrace\"\nrole = \"serve\"",
            "host = \"milrace\"\nrole = \"serve\"",
            "did you mean \"millrace\"?",
        ),
        ("service = \"drover\"", "service = \"dover\"", "did you mean \"drover\"?"),
        ("to = \"/config\"", "to = \"/books/\"", "two mappings have the same place /books"),
        ("access = \"ro\", squash", "access = \"rx\", squash", "known: ro, rw"),
        ("groups = [\"keepers\"]", "groups = [\"keeper\"]", "did you mean \"keepers\"?"),
        ("umask = \"002\"", "umask = \"9\"", "for example \"0775\""),
        ("uid = 1101", "uid = -1", "too small"),
        (
            "addresses = [\"millrace.lan\"",
            "addresses = [\"granary.lan\"",
            "the same address granary.lan",
        ),
        (
            "{ from = \"/srv/lantern\", to = \"/config\" }",
            "{ to = \"/config\" }",
            "exactly one of from, share, source and volume",
        ),
        (
            "roots = [\"/archive/reels\"], original = true }",
            "roots = [\"/archive/reels\"], original = 1 }",
            "expected true or false, found a whole number",
        ),
    ] {
        let folder = Folder::demo();
        folder.edit("tarvek.toml", from, to);
        let answer = folder.run("check");
        assert_eq!(answer.code, 2, "{to}: {}", answer.stdout);
        assert!(answer.stderr.contains(words), "{to}: {}", answer.stderr);
        let line = 1 + folder.read("tarvek.toml").split(to).next().unwrap().matches('\n').count();
        let near =
            (line..line + 3).any(|line| answer.stderr.contains(&format!("tarvek.toml:{line}:")));
        assert!(near || words.contains("address"), "line {line}: {}", answer.stderr);
    }
}

#[test]
fn a_listing_that_is_cut_is_refused() {
    let folder = Folder::demo();
    let whole = folder.read("granary.listing");
    let middle = whole.len() / 2;
    folder.write("granary.listing", &whole[..middle]);
    let answer = folder.run("check");
    assert_eq!((answer.code, answer.stdout.as_str()), (2, ""));
    assert!(
        answer.stderr.contains("the listing is cut off after this line in the section tree"),
        "{}",
        answer.stderr
    );
    assert!(answer.stderr.contains("collect it again"), "{}", answer.stderr);
}

#[test]
fn odd_names_cannot_forge_a_line_of_the_board() {
    let folder = Folder::demo();
    folder.edit("tarvek.toml", "name = \"Films\"", "name = \"Fi\\u001b[2Jlms\\nlantern ready\"");
    let refused = folder.run("check");
    assert_eq!((refused.code, refused.stdout.as_str()), (2, ""));
    assert!(refused.stderr.contains("has a control character (U+001B)"), "{}", refused.stderr);
    assert!(!refused.stderr.contains('\x1b'), "{}", refused.stderr);
    let folder = Folder::demo();
    folder.edit(
        "tarvek.toml",
        "roots = [\"/media/series\"]",
        "roots = [\"/media/series\\u202e\\u200b\"]",
    );
    folder.edit("granary.listing", "/loft/media/photos", "/loft/media/photos\\012x\\033[31m\\377");
    let answer = folder.run("check");
    let board = answer.stdout;
    assert!(
        !board.contains('\x1b') && !board.contains('\u{202e}') && !board.contains('\x07'),
        "{board}"
    );
    assert!(board.contains("series\\u{202e}\\u{200b}"), "{board}");
}

#[test]
fn names_that_are_no_utf8_keep_their_bytes_in_json() {
    let folder = Folder::demo();
    folder.edit("granary.listing", "/loft/media/photos", "/loft/media/ph\\377tos");
    let output = folder.output([
        std::ffi::OsStr::new("trace"),
        std::os::unix::ffi::OsStrExt::from_bytes(b"/loft/media/ph\xfftos"),
        "--from".as_ref(),
        "host:granary".as_ref(),
        "--format".as_ref(),
        "json".as_ref(),
    ]);
    let trace: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(trace["ends"]["path"], "/loft/media/ph\u{fffd}tos");
    assert_eq!(trace["ends"]["path_bytes"], "L2xvZnQvbWVkaWEvcGj/dG9z");
    assert_eq!(trace["complete"], true);
}

#[test]
fn the_number_that_means_no_change_is_nobodys_id() {
    for id in ["4294967295", "4294967295:840", "840:4294967295"] {
        let folder = Folder::demo();
        folder.edit("tarvek.toml", "\"840:840\"", &format!("\"{id}\""));
        let answer = folder.run("check");
        assert_eq!(answer.code, 2, "{id}");
        assert!(answer.stderr.contains("the largest id is 4294967294"), "{}", answer.stderr);
    }
    for (from, to) in [
        ("uid = 840", "uid = 4294967295"),
        ("lantern = { uid = 840", "lantern = { uid = 840, gid = 4294967295"),
        ("keepers = 2100", "keepers = 4294967295"),
        ("runs_as = \"840:840\"", "runs_as = \"840:840\"\ngroups = [4294967295]"),
        ("runs_as = \"840:840\"", "runs_as = \"840:840\"\ngroups = [\"4294967295\"]"),
        ("access = \"ro\" }]", "access = \"ro\", anonuid = 4294967295 }]"),
    ] {
        let folder = Folder::demo();
        folder.edit("tarvek.toml", from, to);
        let answer = folder.run("check");
        assert_eq!(answer.code, 2, "{to}");
        assert!(answer.stderr.contains("4294967294"), "{to}: {}", answer.stderr);
    }
}

/// What an engine mounts by itself, from a literal source, in part, with a user's file, for two
/// services; configuration that an engine keeps; groups by number; ports with address and protocol;
/// a storage host that is a guest of the host that mounts it.
const SAID: &str = r#"tarvek = 1
site = "x"
[host.millrace]
role = "apps"
accounts = { lantern = { uid = 840 } }
[host.granary]
role = "storage"
inside = "millrace"
addresses = ["granary.lan"]
accounts = { lantern = { uid = 840 } }
[share.media]
host = "granary"
path = "/loft/media"
nfs = [{ clients = "*", access = "rw" }]
smb = { write = ["lantern"] }
[[mount]]
host = "millrace"
from = "granary:media"
protocol = "nfs"
at = "/mnt/media"
[service.lantern]
host = "millrace"
role = "serve"
runs_as = "840:840"
groups = [2003, "2004"]
ports = ["8100/udp", "10.20.0.7:8101:80", "[fd00::7]:8102:80/tcp"]
config = "volume:lantern-config"
map = [
  { share = "media", below = "films", protocol = "nfs", volume = "films", to = "/films" },
  { source = "//granary.lan/media/music", protocol = "smb", user = "lantern", credentials = "/etc/granary.cred", to = "/music" },
]
[service.ferry]
host = "millrace"
role = "serve"
runs_as = "841:841"
map = [{ share = "media", below = "films", protocol = "nfs", volume = "films", to = "/films" }]
translate = [{ service = "lantern", from = "/films", to = "/films" }]
"#;

#[test]
fn engines_volumes_groups_ports_and_guests_can_be_said() {
    let folder = Folder::new();
    folder.write("tarvek.toml", SAID);
    for (path, end) in [("/films", "/loft/media/films"), ("/music", "/loft/media/music")] {
        let trace = folder.json(&format!("trace {path} --from service:lantern"));
        assert_eq!(
            (&trace["ends"]["host"], &trace["ends"]["path"]),
            (&"granary".into(), &end.into())
        );
    }
    let compose = folder.run("emit compose --host millrace").stdout;
    for said in [
        "group_add:\n      - \"2003\"\n      - \"2004\"",
        "\"8100:8100/udp\"",
        "\"10.20.0.7:8101:80\"",
        "\"[fd00::7]:8102:80/tcp\"",
        "device: \":/loft/media/films\"",
        "device: \"//granary.lan/media/music\"",
        "o: \"addr=granary.lan,username=lantern,password=${LANTERN_GRANARY_LAN_MEDIA_MUSIC_PASSWORD:?the one in /etc/granary.cred}\"",
    ] {
        assert!(compose.contains(said), "{said}\n{compose}");
    }
    // One volume for both of them.
    assert_eq!(compose.matches("source: \"films\"").count(), 2, "{compose}");
    assert_eq!(compose.matches("\n  films:\n").count(), 1, "{compose}");
    let fstab = folder.run("emit fstab --host millrace").stdout;
    assert!(fstab.contains("nofail,x-systemd.automount"), "{fstab}");
    let notes = folder.json("check");
    let told =
        notes["findings"].as_array().unwrap().iter().filter(|f| f["rule"] == "layout/no-backup");
    let told: Vec<&str> = told.map(|finding| finding["message"].as_str().unwrap()).collect();
    assert_eq!(
        told,
        ["nothing is said of a backup of lantern's configuration, the volume lantern-config"]
    );
    for (port, fine) in [
        ("8100", true),
        ("8100:80/udp", true),
        ("0", false),
        ("8100/sctp", false),
        ("a.b:1:2", false),
        ("1:2:3", false),
    ] {
        folder.write("tarvek.toml", SAID.replace("8100/udp", port));
        let answer = folder.run("check");
        assert_eq!(answer.code != 2, fine, "{port}: {}", answer.stderr);
        assert!(fine || answer.stderr.contains("is no published port"), "{}", answer.stderr);
    }
}

#[test]
fn what_is_read_is_written_so_that_it_reads_back_the_same() {
    let read = |text: &str| tarvek_formats::layout::read("tarvek.toml", text.as_bytes()).unwrap();
    for text in [SAID, include_str!("../src/demo/tarvek.toml")] {
        let once = tarvek_formats::layout::write(&read(text), &|_| Vec::new());
        assert_eq!(tarvek_formats::layout::write(&read(&once), &|_| Vec::new()), once);
        let lines = |layout: &tarvek_core::layout::site::Layout| {
            let services = layout.services.iter();
            let kept = services.map(|s| {
                let names = |t: &Translation| {
                    (t.service.clone(), t.from.written.clone(), t.to.written.clone())
                };
                let translated: Vec<_> = s.translate.iter().map(names).collect();
                (s.groups.clone(), s.ports.clone(), s.config_volume.clone(), translated)
            });
            kept.collect::<Vec<_>>()
        };
        assert_eq!(lines(&read(&once)), lines(&read(text)));
    }
}

/// What no host, kernel or server has, each with the place where it is written.
#[test]
fn what_no_system_has_is_a_mistake() {
    let start = "tarvek = 1\nsite = \"K\"\n[host.a]\nrole = \"apps\"\n";
    for (more, line, words) in [
        ("inside = \"a\"\n", 5, "the host a is inside of itself"),
        (
            "inside = \"b\"\n[host.b]\nrole = \"apps\"\ninside = \"a\"\n",
            5,
            "the host a is inside of itself",
        ),
        (
            "idmap = [{ inside = 0, outside = 100000, count = 65536 },\n{ inside = 65535, outside \
             = 300000, count = 1 }]\n",
            6,
            "overlap",
        ),
        (
            "idmap = [{ inside = 0, outside = 100, count = 10 },\n{ inside = 10, outside = 109, \
             count = 1 }]\n",
            6,
            "overlap",
        ),
        ("idmap = [{ inside = 0, outside = 4294967290, count = 10 }]\n", 5, "no such ids"),
        (
            "datasets = [{ name = \"x\", at = \"/x\", quota = \"9000P\" }]\n",
            5,
            "no filesystem has room",
        ),
        (
            "datasets = [{ name = \"x\", at = \"/x\", quota = 9000 }]\n",
            5,
            "expected a string, found a whole number",
        ),
        (
            "accounts = { m = { uid = 99999999999999999999999 } }\n",
            5,
            "too large; the limit is 4294967294",
        ),
        (
            "[[folder]]\nhost = \"a\"\npath = \"/x\"\nmode = \"77777\"\n",
            8,
            "does not have the right form",
        ),
        ("[host.b.accounts]\nm = { uid = 1 }\n", 5, "\"role\" is missing in [host.b]"),
        (
            "[[mount]]\nhost = \"a\"\nfrom = \"UUID=1\"\nprotocol = \"disk\"\nat = \"/m\"\noptions \
             = \"context=\\\"x\"\n",
            10,
            "no second one",
        ),
        (
            "[share.global]\nhost = \"a\"\npath = \"/x\"\nsmb = {}\n",
            5,
            "no SMB share can be called",
        ),
        (
            "[service.x]\nhost = \"a\"\nrole = \"serve\"\nuserns = \"0:100:10,5:300:2\"\n",
            8,
            "is no user namespace",
        ),
    ] {
        let folder = Folder::new();
        folder.write("tarvek.toml", format!("{start}{more}"));
        let answer = folder.run("check");
        let told = answer.stderr.lines().find(|told| told.contains(words));
        let told = told.unwrap_or_else(|| panic!("{more}: {}", answer.stderr));
        assert!(told.starts_with(&format!("tarvek.toml:{line}:")), "{more}: {told}");
        assert_eq!((answer.code, answer.stdout.as_str()), (2, ""), "{more}");
    }
}

#[test]
fn what_a_format_cant_say_is_refused_with_its_place() {
    let was = "path = \"/loft/media\"";
    let text = Folder::demo().read("tarvek.toml");
    let line = text[..text.find(was).unwrap()].lines().count();
    for (path, what, words) in [
        ("/loft/a%Ub", "smb", "for the start of a variable"),
        ("/loft/a\\\"b", "smb", "no way to say a quotation mark"),
        ("/loft/a\\\\040", "exports", "a backslash before three digits"),
    ] {
        let folder = Folder::demo();
        folder.edit("tarvek.toml", was, &format!("path = \"{path}\""));
        let answer = folder.run(&format!("emit {what} --host granary -o out"));
        assert_eq!((answer.code, answer.stdout.as_str()), (2, ""), "{path}");
        assert!(
            answer.stderr.contains(words) && answer.stderr.contains("nothing was written"),
            "{}",
            answer.stderr
        );
        // The share is named a line or two above its path.
        let place =
            (line - 3..=line).any(|line| answer.stderr.contains(&format!("tarvek.toml:{line}:")));
        assert!(place && !folder.path("out").exists(), "{line}: {}", answer.stderr);
    }
    let folder = Folder::demo();
    folder.edit(
        "tarvek.toml",
        "options = \"ro,nofail,_netdev\"",
        "options = \"ro,password=s3cret\"",
    );
    let answer = folder.run("emit fstab --host millrace");
    assert_eq!((answer.code, answer.stdout.as_str()), (2, ""));
    assert!(
        answer.stderr.contains("a secret stands there") && !answer.stderr.contains("s3cret"),
        "{}",
        answer.stderr
    );
}

#[test]
fn binds_in_a_circle_are_unseen_and_no_symlinks() {
    let folder = Folder::new();
    folder.write(
        "tarvek.toml",
        "tarvek = 1\nsite = \"K\"\n[host.a]\nrole = \"apps\"\n[[mount]]\nhost = \"a\"\nfrom \
         = \"/y\"\nprotocol = \"bind\"\nat = \"/x\"\n\
         [[mount]]\nhost = \"a\"\nfrom = \"/x\"\nprotocol = \"bind\"\nat = \"/y\"\n",
    );
    let answer = folder.run("trace /x/films --from host:a");
    assert_eq!(answer.code, 2, "{}{}", answer.stdout, answer.stderr);
    assert!(
        answer.stdout.contains("leads into itself") && !answer.stdout.contains("symlink"),
        "{}",
        answer.stdout
    );
}
