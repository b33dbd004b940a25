//! Who can do what, through namespaces, NFS and SMB, and what would change it: the built program on
//! small edits of the demo site.

mod support;

use serde_json::Value;
use support::Folder;

/// What a service or host may do at a path: `read+ write- …`, with the reason of the first refusal.
fn verdicts(folder: &Folder, arguments: &str) -> (String, String) {
    let answer = folder.json(&format!("access {arguments}"));
    let all = answer["verdicts"].as_array().unwrap();
    let sign = |verdict: &Value| match verdict["allowed"].as_bool() {
        Some(true) => '+',
        Some(false) => '-',
        None => '?',
    };
    let words: Vec<String> =
        all.iter().map(|v| format!("{}{}", v["need"].as_str().unwrap(), sign(v))).collect();
    let refused = all.iter().find(|verdict| verdict["allowed"] != true);
    let reason = refused.map(|verdict| verdict["reason"].as_str().unwrap().to_owned());
    (words.join(" "), reason.unwrap_or_default())
}

fn steps(answer: &Value) -> Vec<String> {
    let steps = answer["remedy"]["steps"].as_array().cloned().unwrap_or_default();
    steps.iter().map(|step| step["command"].as_str().unwrap().to_owned()).collect()
}

const PHOTOS: &str = "/media/photos --from service:lantern";
const AS_LANTERN: &str = "runs_as = \"840:840\"";

#[test]
fn an_account_that_its_host_does_not_have_is_nobody_known_and_not_root() {
    let folder = Folder::demo();
    folder.edit("tarvek.toml", AS_LANTERN, "runs_as = \"lantrn\"");
    let films = "/media/films --from service:lantern";
    let (signs, reason) = verdicts(&folder, films);
    assert_eq!(signs, "read? enter? add? remove?");
    let unknown = "no account lantrn is known on millrace";
    assert!(reason.contains(unknown), "{reason}");
    let board = folder.json("check");
    let rows = board["board"].as_array().unwrap();
    assert!(
        rows.iter().all(|row| row["service"] != "lantern" || row["ready"] == false),
        "{rows:#?}"
    );
    let stages = &rows[0]["stages"];
    assert_eq!(stages["exists"], "ok");
    assert_eq!((&stages["readable"], &stages["titles"]), (&Value::from("unknown"), &Value::Null));
    let findings = board["findings"].as_array().unwrap().iter();
    let blockers: Vec<&Value> = findings
        .filter(|f| f["rule"] == "identity/unknown-account" && f["severity"] == "blocker")
        .collect();
    assert_eq!(blockers.len(), 1, "{blockers:#?}");
    let step = &blockers[0]["steps"][0];
    assert_eq!((&step["set"], &step["to"]), (&"service.lantern.runs_as".into(), &"lantern".into()));
    for answer in [
        folder.run("forecast"),
        folder.run("trace /media/films --from service:lantern"),
        folder.run(&format!("access {films}")),
    ] {
        assert!(
            answer.stdout.contains("lantrn") && !answer.stdout.contains("assumed"),
            "{}",
            answer.stdout
        );
    }
    let made = folder.run(&format!("access {films} --new-file"));
    let why = "what would be made in /media/films can't be told: no account lantrn is known";
    assert!(made.code == 2 && made.stderr.contains(why), "{}", made.stderr);
    // What the edits say makes it as good as it was.
    folder.run("check --apply --only identity/unknown-account --yes");
    assert_eq!(verdicts(&folder, films).0, "read+ enter+ add- remove-");
}

#[test]
fn a_namespace_shifts_whoever_is_inside() {
    // The folder is the account's own, so that everything hangs on the number that arrives.
    let folder = Folder::demo();
    folder.edit("granary.listing", "|d 0750 1101 2100 4 512 75", "|d 0700 840 840 4 512 75");
    assert_eq!(verdicts(&folder, PHOTOS).0, "read+ enter+ add- remove-");
    let with = |userns: &str, subids: &str| {
        let folder = Folder::demo();
        folder.edit("granary.listing", "|d 0750 1101 2100 4 512 75", "|d 0700 840 840 4 512 75");
        folder.edit("tarvek.toml", AS_LANTERN, &format!("{AS_LANTERN}\nuserns = \"{userns}\""));
        let documents: String = ["subuid", "subgid"]
            .map(|name| format!("section {name}\n{subids}end {name}\n"))
            .concat();
        folder.edit("millrace.listing", "section roots", &format!("{documents}section roots"));
        folder
    };
    let arrives = |folder: &Folder| {
        let trace = folder.json("trace /media/photos --from service:lantern");
        trace["hops"].as_array().unwrap().last().unwrap()["identity"]["uid"].clone()
    };
    for (userns, subids, uid) in [
        ("0:100000:65536", "", 100_840),
        ("u:0:100000:65536,g:0:200000:65536", "", 100_840),
        ("0:100000:800,800:840:100", "", 880),
        ("remap:dockremap", "|dockremap:300000:65536\n", 300_840),
        ("host", "", 840),
    ] {
        let folder = with(userns, subids);
        assert_eq!(arrives(&folder), uid, "{userns}");
        let readable = if uid == 840 { "read+" } else { "read-" };
        assert!(verdicts(&folder, PHOTOS).0.starts_with(readable), "{userns}");
    }
    // What a namespace can't be worked out from is said, and nothing is promised.
    for (userns, why) in [
        ("remap:dockremap", "no subuid of dockremap is known on millrace"),
        ("rootless:ines", "millrace is not known to have an account ines"),
    ] {
        let (words, reason) = verdicts(&with(userns, ""), PHOTOS);
        assert_eq!(words, "read? enter? add? remove?", "{userns}");
        assert!(reason.contains(why), "{reason}");
    }
    let (words, reason) = verdicts(&with("0:100000:500", ""), PHOTOS);
    assert_eq!(words, "read- write- enter- add- remove-");
    assert_eq!(reason, "the user namespace of lantern has no id 840: nobody can be that there");
}

#[test]
fn rootless_engines_map_their_own_account() {
    let subids = "section subuid\n|ines:400000:65536\nend subuid\nsection subgid\n\
                  |1200:500000:65536\nend subgid\nsection roots";
    for (userns, runs_as, arrives) in [
        ("rootless:ines", "0:0", (1200, 1201)),
        ("rootless:ines", "1:1", (400_000, 500_000)),
        ("keep-id:ines", "1200:1201", (1200, 1201)),
        ("keep-id:ines", "0:0", (400_000, 500_000)),
        ("keep-id:ines", "1201:1202", (401_200, 501_201)),
    ] {
        let folder = Folder::demo();
        folder.edit("millrace.listing", "section roots", subids);
        folder.edit(
            "tarvek.toml",
            "role = \"apps\"",
            "role = \"apps\"\naccounts = { ines = { uid = 1200, gid = 1201 } }",
        );
        let text = format!("runs_as = \"{runs_as}\"\nuserns = \"{userns}\"");
        folder.edit("tarvek.toml", AS_LANTERN, &text);
        let trace = folder.json("trace /books --from service:lantern");
        let identity = &trace["hops"][0]["identity"];
        let ids = (identity["uid"].as_u64().unwrap(), identity["gid"].as_u64().unwrap());
        assert_eq!(ids, arrives, "{runs_as} in {userns}");
    }
}

#[test]
fn an_unreadable_namespace_is_a_mistake_with_a_place() {
    let folder = Folder::demo();
    folder.edit("tarvek.toml", AS_LANTERN, &format!("{AS_LANTERN}\nuserns = \"0:100000\""));
    let answer = folder.run("check");
    assert_eq!(answer.code, 2);
    for words in ["tarvek.toml:86:10", "\"0:100000\" is no user namespace", "keep-id:ACCOUNT"] {
        assert!(answer.stderr.contains(words), "{words}: {}", answer.stderr);
    }
}

/// The demo site with a Linux client that mounts the share over SMB.
fn smb_client(mount: &str, offer: &str) -> Folder {
    let folder = Folder::demo();
    folder.edit("tarvek.toml", "smb = { read = [\"lantern\"], write = [\"@keepers\"] }", offer);
    folder.edit(
        "tarvek.toml",
        "# Serves the club's libraries.",
        &format!(
            "[host.booth]\nrole = \"client\"\n[[mount]]\nhost = \"booth\"\nfrom \
             = \"granary:media\"\nprotocol = \"smb\"\n\
             at = \"/mnt/media\"\n{mount}\n"
        ),
    );
    folder.write(
        "booth.listing",
        "tarvek-listing 1\nhost booth\ntaken 1795156200\nuid 0\nsection roots\n|names /\nend \
         roots\n\
         section tree type mode uid gid size allocated inode links mtime device path\n|d 0755 0 0 \
         0 0 1 1 0 - /\n\
         |d 0755 0 0 0 0 2 1 0 - /mnt\n|d 0755 0 0 0 0 3 1 0 - /mnt/media\nend tree\ncomplete\n",
    );
    folder
}

#[test]
fn an_smb_client_checks_by_itself_and_the_server_sees_the_mounts_user() {
    const FILMS: &str = "/mnt/media/films --from host:booth --as 1000:1000";
    const OPEN: &str = "smb = { writable = true }";
    for (mount, offer, expected, reason) in [
        // Both sides allow: the server goes by mira, who is in keepers.
        ("user = \"mira\"\noptions = \"uid=1000\"", OPEN, "read+ enter+ add+ remove+", ""),
        // The client lets only its root write, whatever the server says.
        ("user = \"mira\"", OPEN, "read+ enter+ add- remove-", "dir_mode=0755"),
        (
            "user = \"mira\"\noptions = \"dir_mode=0700\"",
            OPEN,
            "read- enter- add- remove-",
            "dir_mode=0700",
        ),
        (
            "user = \"mira\"\noptions = \"dir_mode=0700,noperm\"",
            OPEN,
            "read+ enter+ add+ remove+",
            "",
        ),
        // The server has the last word.
        (
            "user = \"lantern\"\noptions = \"noperm\"",
            OPEN,
            "read+ enter+ add- remove-",
            "other::r-x",
        ),
        (
            "user = \"mira\"\noptions = \"noperm\"",
            "smb = {}",
            "read+ enter+ add- remove-",
            "the share media is read-only",
        ),
        (
            "user = \"mira\"\noptions = \"noperm\"",
            "smb = { write = [\"@keepers\"] }",
            "read+ enter+ add+ remove+",
            "",
        ),
        (
            "user = \"mira\"\noptions = \"noperm\"",
            "smb = { writable = true, read = [\"mira\"] }",
            "read+ enter+ add- remove-",
            "read-only",
        ),
        (
            "user = \"mira\"\noptions = \"noperm\"",
            "smb = { only = [\"oskar\"] }",
            "read- write- enter- add- remove-",
            "does not admit mira",
        ),
        (
            "user = \"mira\"\noptions = \"noperm\"",
            "smb = { only = [\"@keepers\"], deny = [\"mira\"] }",
            "read- write- enter- add- remove-",
            "refuses mira",
        ),
        (
            "user = \"lantern\"\noptions = \"noperm\"",
            "smb = { writable = true, force_user = \"mira\" }",
            "read+ enter+ add+ remove+",
            "",
        ),
        (
            "user = \"lantern\"\noptions = \"noperm\"",
            "smb = { writable = true, force_group = \"keepers\" }",
            "read+ enter+ add+ remove+",
            "",
        ),
        (
            "user = \"lantern\"\noptions = \"noperm\"",
            "smb = { writable = true, force_group = \"+keepers\" }",
            "read+ enter+ add- remove-",
            "other::r-x",
        ),
        (
            "options = \"guest,noperm\"",
            "smb = { writable = true }",
            "read- write- enter- add- remove-",
            "lets no guests in",
        ),
        (
            "options = \"guest,noperm\"",
            "smb = { guests = true, writable = true }",
            "read+ enter+ add- remove-",
            "other::r-x",
        ),
        (
            "user = \"mira\"\noptions = \"noperm\"",
            "smb = { guests = true, guest_only = true, writable = true }",
            "read+ enter+ add- remove-",
            "other::r-x",
        ),
        (
            "user = \"lantern\"\noptions = \"noperm\"",
            "smb = { writable = true, admins = [\"lantern\"] }",
            "read+ enter+ add+ remove+",
            "",
        ),
        // Who nobody names is not known.
        (
            "options = \"noperm\"",
            OPEN,
            "read? enter? add? remove?",
            "no user is declared for the mount",
        ),
        (
            "user = \"ines\"\noptions = \"noperm\"",
            OPEN,
            "read? enter? add? remove?",
            "not known to have an account",
        ),
    ] {
        let (words, why) = verdicts(&smb_client(mount, offer), FILMS);
        assert_eq!(words, expected, "{mount} on {offer}: {why}");
        assert!(why.contains(reason), "{mount} on {offer}: {why}");
    }
}

#[test]
fn what_an_smb_server_makes_has_its_masks() {
    let made = |offer: &str| {
        let folder = smb_client("user = \"mira\"\noptions = \"noperm\"", offer);
        let answer = folder.json("access /mnt/media/films --from host:booth --new-file");
        let mode = |n: usize| answer["made"][n]["mode"].as_str().unwrap().to_owned();
        (mode(0), mode(1), answer["made"][0]["gid"].as_u64().unwrap())
    };
    assert_eq!(made("smb = { writable = true }"), ("0744".into(), "2755".into(), 2100));
    let masks = "smb = { writable = true, create_mask = \"0664\", folder_mask = \"0775\" }";
    assert_eq!(made(masks), ("0664".into(), "2775".into(), 2100));
    let forced = "smb = { writable = true, create_mask = \"0600\", force_create_mode = \"0040\" }";
    assert_eq!(made(forced), ("0640".into(), "2755".into(), 2100));
}

#[test]
fn remedies_are_as_small_as_the_filesystem_allows() {
    let of = |mounted: &str, need: &str| {
        let folder = Folder::demo();
        folder.edit("granary.listing", "zfs loft/media rw,xattr,posixacl", mounted);
        // The group has nothing, so that joining it would not help.
        folder.edit("granary.listing", "|d 0750 1101 2100 4 512 75", "|d 0700 1101 2100 4 512 75");
        folder.json(&format!(
            "access /loft/media/photos --from host:granary --as lantern --need {need}"
        ))
    };
    assert_eq!(
        steps(&of("zfs loft/media rw,xattr,posixacl", "enter")),
        ["setfacl -m u:lantern:x /loft/media/photos"]
    );
    assert_eq!(
        steps(&of("zfs loft/media rw,xattr,posixacl", "read,add")),
        ["setfacl -m u:lantern:rwx /loft/media/photos"]
    );
    // Without ACLs only a class of the mode is left, and what that gives others is said.
    let coarse = of("zfs loft/media rw,xattr,noacl", "read");
    assert_eq!(steps(&coarse), ["chmod o+rx /loft/media/photos"]);
    let effects = coarse["remedy"]["effects"].to_string();
    for who in ["account:drover", "service:drover"] {
        assert!(effects.contains(who), "{effects}");
    }
    assert!(!effects.contains("mira"), "{effects}");
    // Where the owning group has what is needed, joining it gives it to one account only.
    let folder = Folder::demo();
    folder.edit(
        "granary.listing",
        "zfs loft/media rw,xattr,posixacl",
        "zfs loft/media rw,xattr,noacl",
    );
    let as_drover = folder.json("access /loft/media/photos --from host:granary --as drover");
    assert_eq!(steps(&as_drover), ["usermod -a -G keepers drover"]);
    let service = folder.json("access /data/photos --from service:drover");
    assert_eq!(
        steps(&service),
        ["add 2100 to groups of service drover", "restart drover with group 2100"]
    );
    // A read-only filesystem is opened first, and what can't be had by any right has no remedy.
    let read_only = of("zfs loft/media ro,xattr,posixacl", "add");
    assert_eq!(steps(&read_only)[0], "zfs set readonly=off loft/media");
    let folder = Folder::demo();
    let full = folder.json("access /loft/media/films --from host:granary --as 0 --need remove");
    assert_eq!(full["verdicts"][0]["allowed"], true, "it can be moved away");
    assert!(full["verdicts"][0]["reason"].as_str().unwrap().ends_with("; it is not empty"));
    assert_eq!(full["remedy"], Value::Null);
}

#[test]
fn everyone_and_what_they_could_do_with_a_new_file() {
    let folder = Folder::demo();
    insta::assert_snapshot!(
        "everyone",
        folder.run("access /loft/media/photos --from host:granary --all").whole()
    );
    insta::assert_snapshot!(
        "new_file",
        folder
            .run("access /data/intake/done/films --from service:drover --new-file --asks 600")
            .whole()
    );
    let refused = folder.run("access /media/films --from service:lantern --new-file");
    assert_eq!(refused.code, 1);
    assert!(
        refused
            .stdout
            .contains("it can't be made: /media on millrace: the mapping to /media is read-only")
    );
    let file = folder.run("access '/data/intake' --from service:drover --new-file --umask 9");
    assert_eq!(file.code, 2);
}

#[test]
fn one_entry_ungreys_a_library() {
    let folder = Folder::new();
    folder.run("demo site");
    let ask = "access /media/photos --from service:lantern --below --layout site/tarvek.toml";
    let before = folder.run(ask);
    assert_eq!(before.code, 1);
    assert!(before.stdout.contains("below: 5 of 5 entries can't be read"));
    let command = "setfacl -R -m u:lantern:rX,d:u:lantern:rX /loft/media/photos";
    assert!(before.stdout.contains(command));
    let mended = "--survey site/granary.mended.listing --survey site/millrace.listing";
    let after = folder.run(&format!("{ask} {mended}"));
    assert_eq!((after.code, after.stdout.contains("all of 5 entries can be read")), (0, true));
    let check = folder.json(&format!("check --layout site/tarvek.toml {mended}"));
    assert_eq!(check["board"][3]["verdict"], "ready");
}

#[test]
fn proofs_are_for_root_on_its_own_machine() {
    let folder = Folder::new();
    folder.write("a file", "x");
    let answer = folder.output([
        "access",
        "a file",
        "--prove",
        "--need",
        "read,write,remove",
        "--format",
        "json",
    ]);
    if nix::unistd::geteuid().is_root() {
        let answer: Value = serde_json::from_slice(&answer.stdout).unwrap();
        for verdict in answer["verdicts"].as_array().unwrap() {
            assert_eq!(
                (&verdict["evidence"], &verdict["allowed"]),
                (&"proven".into(), &true.into())
            );
        }
        assert_eq!(folder.read("a file"), "x");
    } else {
        assert_eq!(answer.status.code(), Some(2));
        assert!(
            String::from_utf8_lossy(&answer.stderr).contains("only root can become somebody else")
        );
    }
    let elsewhere = Folder::demo().run("access /media/films --from service:lantern --prove");
    assert_eq!(elsewhere.code, 2);
    assert!(elsewhere.stderr.contains("can only be tried on this machine"), "{}", elsewhere.stderr);
}

#[test]
fn what_is_removed_is_the_name_of_a_symlink() {
    let folder = Folder::new();
    folder.write("full/file", "x");
    std::os::unix::fs::symlink("full", folder.path("link")).unwrap();
    let remove = |what: &str| folder.run(&format!("access {what} --need remove")).stdout;
    assert!(remove("full").contains("; it is not empty"), "{}", remove("full"));
    assert!(!remove("link").contains("not empty"), "{}", remove("link"));
    assert_eq!(folder.run("access link --need remove").code, 0);
    assert_eq!(folder.run("access link --need read,enter,add").code, 0);
}

#[test]
fn namespaces_nest() {
    let folder = Folder::demo();
    folder.edit(
        "tarvek.toml",
        "# Serves the club's libraries.",
        "[host.kelp]\nrole = \"apps\"\ninside = \"millrace\"\nidmap = [{ inside = 0, outside = \
         100000, count = 65536 }]\n\
         map = [{ from = \"/srv\", to = \"/srv\" }]\n\n# Serves the club's libraries.",
    );
    folder.edit(
        "tarvek.toml",
        "[service.lantern]\nhost = \"millrace\"",
        "[service.lantern]\nhost = \"kelp\"",
    );
    folder.edit("tarvek.toml", AS_LANTERN, "runs_as = \"0:0\"\nuserns = \"0:1000:2000\"");
    let trace = folder.json("trace /books --from service:lantern");
    let uids: Vec<_> = trace["hops"]
        .as_array()
        .unwrap()
        .iter()
        .map(|hop| hop["identity"]["uid"].clone())
        .collect();
    assert_eq!(uids[..2], [1000, 101_000], "{trace}");
    assert_eq!(trace["hops"][1]["identity_changed_by"], "the user namespace of kelp");
}
