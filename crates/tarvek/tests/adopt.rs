//! `tarvek adopt`: what files say, the layout that comes of it, and what is said of what can't be
//! read.

mod support;

use serde_json::{Value, json};
use support::Folder;

/// The demo's configuration.
fn hollow() -> Folder {
    let folder = Folder::new();
    let source = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src/demo/conf");
    for host in std::fs::read_dir(source).unwrap() {
        let host = host.unwrap().path();
        for file in std::fs::read_dir(&host).unwrap() {
            let file = file.unwrap().path();
            let name = format!(
                "conf/{}/{}",
                host.file_name().unwrap().to_str().unwrap(),
                file.file_name().unwrap().to_str().unwrap()
            );
            folder.write(&name, std::fs::read(&file).unwrap());
        }
    }
    folder
}

const ALL: &str = "adopt conf/granary conf/millrace conf/parlour";

#[test]
fn a_site_is_adopted_from_its_files() {
    let folder = hollow();
    insta::assert_snapshot!(folder.run(&format!("{ALL} -o site.toml")).whole());
    insta::assert_snapshot!("the_adopted_layout", folder.read("site.toml"));
    // Every finding of what was adopted says where that stands.
    let check = folder.json("check --layout site.toml");
    let about = |rule: &str| {
        let finding = check["findings"].as_array().unwrap().iter().find(|f| f["rule"] == rule);
        let place = &finding.unwrap_or_else(|| panic!("no {rule}: {check:#}"))["where"];
        format!("{}:{}", place["file"].as_str().unwrap(), place["line"])
    };
    for (rule, place) in [
        ("mount/boot-hang", "conf/millrace/fstab:4"),
        ("mount/soft-writes", "conf/millrace/fstab:4"),
        ("mount/old-protocol", "conf/millrace/fstab:5"),
        ("mount/by-address", "conf/millrace/fstab:3"),
        ("share/stray-space", "conf/granary/exports:3"),
        ("share/root-trusted", "conf/granary/exports:3"),
        ("port/taken-twice", "conf/granary/compose.yaml:20"),
        ("mount/service-before-mount", "conf/millrace/compose.yaml:8"),
    ] {
        assert_eq!(about(rule), place, "{rule}");
    }
}

#[test]
fn a_layout_of_inline_tables_is_extended_as_it_is_written() {
    let folder = hollow();
    folder.write(
        "inline.toml",
        "tarvek = 1\nsite = \"Kestrel Hollow\"\n\
         host = { granary = { role = \"storage\" } } # all of them\n\
         mount = [ { host = \"granary\", from = \"LABEL=x\", protocol = \"disk\", at = \"/x\" } ]\n",
    );
    let run = folder.run("adopt conf/millrace -o inline.toml");
    assert_eq!(run.code, 0, "{}", run.stderr);
    let text = folder.read("inline.toml");
    assert!(text.contains("millrace = { role = \"apps\" } } # all of them\n"), "{text}");
    assert!(text.contains("at = \"/x\" }, { host = \"millrace\""), "{text}");
    assert!(text.contains("\n[service."), "{text}");
}

#[test]
fn what_a_person_did_stays_and_a_second_run_changes_nothing() {
    let folder = hollow();
    folder.write(
        "site.toml",
        "# mine\ntarvek = 1\nsite = \"Kestrel Hollow\" # ours\n\n[host.granary]\nrole \
         = \"storage\"\naddresses = [\"granary.lan\"]\n\
         datasets = [] # to come\n\n[service.lantern]\nhost = \"granary\"\nrole = \"serve\"\nmap = \
         [\n  { from = \"/x\", to = \"/x\" }, # kept\n]\n",
    );
    assert_eq!(folder.run(&format!("{ALL} -o site.toml")).code, 0);
    let first = folder.read("site.toml");
    for kept in ["# mine\n", "# ours", "# to come", "# kept", "addresses = [\"granary.lan\"]"] {
        assert!(first.contains(kept), "{kept}:\n{first}");
    }
    assert!(
        first.contains("name = \"loft/archive\"") && first.contains("[service.drover]"),
        "{first}"
    );
    let again = folder.run(&format!("{ALL} -o site.toml"));
    assert!(
        again.stdout.ends_with("site.toml has all of it already; it stays as it is.\n"),
        "{}",
        again.stdout
    );
    assert_eq!(folder.read("site.toml"), first);
    // A correction stays, and so does what was taken out.
    let drover = first.find("\n[service.drover]").unwrap();
    let after = drover + first[drover + 1..].find("\n[").unwrap() + 1;
    let changed = first[..drover].to_owned() + &first[after..];
    let changed = changed.replace("options = \"rw,soft\"", "options = \"rw,hard\"");
    folder.write("site.toml", &changed);
    assert_eq!(folder.run(&format!("{ALL} -o site.toml")).code, 0);
    assert_eq!(folder.read("site.toml"), changed);
    // What is new comes in.
    folder.edit("conf/millrace/fstab", "# /etc", "UUID=9 /mnt/more xfs defaults 0 0\n# /etc");
    let more = folder.run(&format!("{ALL} -o site.toml"));
    assert!(more.stdout.contains("added to site.toml: 1 part"), "{}", more.stdout);
    assert!(folder.read("site.toml").contains("at = \"/mnt/more\""));
}

fn facts<'a>(read: &'a Value, kind: &str) -> Vec<&'a Value> {
    read["facts"].as_array().unwrap().iter().filter(|fact| fact["kind"] == kind).collect()
}

#[test]
fn the_fields_of_the_contract() {
    let folder = hollow();
    let read = folder.json("adopt conf/millrace conf/granary");
    assert_eq!(read["schema"], "tarvek/adopt/1");
    let mapping = facts(&read, "mapping")[0];
    assert_eq!(
        *mapping,
        json!({"kind": "mapping", "host": "millrace", "file": "conf/millrace/compose.yaml", "line": 8, "service": "lantern",
               "from": "/mnt/granary/media", "to": "/media", "access": "ro"})
    );
    let mount = facts(&read, "mount")[3];
    assert_eq!(
        mount["options"],
        json!(["username=lantern", "password=[hidden]", "vers=1.0", "nofail"])
    );
    assert_eq!(
        (&mount["type"], &mount["boot"], &mount["line"]),
        (&json!("cifs"), &json!(true), &json!(5))
    );
    let export = facts(&read, "export")[2];
    assert_eq!(
        (&export["client"], &export["access"], &export["squash"]),
        (&json!("*"), &json!("rw"), &json!("none"))
    );
    let share = facts(&read, "share")[0];
    assert_eq!(
        (&share["valid_users"], &share["read_only"]),
        (&json!(["@keepers", "lantern"]), &json!(true))
    );
    assert_eq!(facts(&read, "account")[2]["groups"], json!(["keepers"]));
    let port = facts(&read, "port")[0];
    assert_eq!(
        (&port["published"], &port["target"], &port["protocol"]),
        (&json!(7080), &json!(7080), &json!("tcp"))
    );
    // Secrets are findings, and never shown.
    let flaws = read["flaws"].as_array().unwrap();
    assert!(flaws.iter().any(|flaw| flaw["rule"] == "mount/inline-password" && flaw["line"] == 5));
    let whole = read.to_string();
    assert!(!whole.contains("hedgehog") && !whole.contains("8d1f0c2b"), "{whole}");
}

/// What one file says, as facts without their place.
fn read_one(name: &str, text: &str) -> (Vec<Value>, Vec<String>) {
    let folder = Folder::new();
    folder.write(name, text);
    let answer = folder.run(&format!("adopt granary:{name} --format json"));
    assert_eq!(answer.code, 0, "{}", answer.stderr);
    let read: Value = serde_json::from_str(&answer.stdout).unwrap();
    let mut facts: Vec<Value> = read["facts"].as_array().unwrap().clone();
    for fact in &mut facts {
        let fact = fact.as_object_mut().unwrap();
        ["host", "file", "line"].iter().for_each(|key| drop(fact.remove(*key)));
    }
    let skipped = read["skipped"].as_array().unwrap().iter();
    (facts, skipped.map(|s| format!("{}: {}", s["line"], s["why"].as_str().unwrap())).collect())
}

#[test]
fn each_format_is_told_by_its_content() {
    for (name, text, expected) in [
        (
            "a",
            "[Container]\nImage=x\nUser=840\nGroup=841\nVolume=/srv/a:/a:ro,z\nVolume=kept:/kept\n\
             PublishPort=[::1]:80:8080/udp\n\
             UIDMap=0:100000:65536\nUserNS=\n",
            json!([
                {"kind": "service", "service": "a", "user": "840:841", "uid": 840, "gid": 841, "image": "x", "userns": "u:0:100000:65536,g:0:100000:65536"},
                {"kind": "mapping", "service": "a", "from": "/srv/a", "to": "/a", "access": "ro", "label": "shared"},
                {"kind": "volume", "service": "a", "volume": "kept", "to": "/kept", "access": "rw"},
                {"kind": "port", "service": "a", "host_ip": "::1", "published": 80, "target": 8080, "protocol": "udp"},
            ]),
        ),
        (
            "mnt-media.mount",
            "[Unit]\nDescription=x\n[Mount]\nWhat=granary:/loft/media\nWhere=/mnt/media\nType=nfs\n\
             Options=ro,soft\n[Install]\nWantedBy=x\n",
            json!([{"kind": "mount", "source": "granary:/loft/media", "at": "/mnt/media", "type": "nfs", "options": ["ro", "soft"], "boot": true, "mounted": false}]),
        ),
        (
            "kelp",
            "lxc.uts.name = kelp\nlxc.idmap = u 0 100000 65536\nlxc.idmap = g 0 100000 65536\n\
             lxc.mount.entry = /loft/a\\040b media none bind,ro 0 0\n",
            json!([
                {"kind": "service", "service": "kelp", "is_host": true},
                {"kind": "idmap", "service": "kelp", "of": "uid", "inside": 0, "outside": 100_000, "count": 65_536},
                {"kind": "idmap", "service": "kelp", "of": "gid", "inside": 0, "outside": 100_000, "count": 65_536},
                {"kind": "mapping", "service": "kelp", "from": "/loft/a \
                    b", "to": "/media", "access": "ro"},
            ]),
        ),
        (
            "101.conf",
            "arch: amd64\nhostname: kelp\nmp0: /loft/media,mp=/media,ro=1\nmp1: \
             pool:vol-1,mp=/own,size=8G\nunprivileged: 1\n[before]\nmp9: /x,mp=/x\n",
            json!([
                {"kind": "service", "service": "kelp", "is_host": true},
                {"kind": "idmap", "service": "kelp", "of": "uid", "inside": 0, "outside": 100_000, "count": 65_536},
                {"kind": "idmap", "service": "kelp", "of": "gid", "inside": 0, "outside": 100_000, "count": 65_536},
                {"kind": "mapping", "service": "kelp", "from": "/loft/media", "to": "/media", "access": "ro"},
                {"kind": "volume", "service": "kelp", "volume": "pool:vol-1", "to": "/own", "access": "rw"},
            ]),
        ),
        (
            "facl",
            "# file: loft/media\n# owner: mira\n# group: keepers\n# flags: -s-\nuser::rwx\n\
             user:840:r-x\ngroup::rwx\nmask::rwx\nother::---\ndefault:user::rwx\n",
            json!([{"kind": "folder", "path": "/loft/media", "owner": "mira", "group": "keepers", "mode": "2770", "entries": ["user:840:r-x", "default:user::rwx"]}]),
        ),
        (
            "zfs",
            "loft/media\tatime\toff\tlocal\nloft/media\tmountpoint\t/loft/media\tdefault\n\
             loft@x\tused\t1\t-\n",
            json!([{"kind": "dataset", "name": "loft/media", "at": "/loft/media", "filesystem": "zfs", "properties": {"atime": "off"}}]),
        ),
        (
            "zfs.json",
            "{\"datasets\": {\"loft\": {\"name\": \"loft\", \"properties\": {\"mountpoint\": \
             {\"value\": \"/loft\"}, \"atime\": {\"value\": \"on\"}}}}}",
            json!([{"kind": "dataset", "name": "loft", "at": "/loft", "filesystem": "zfs", "properties": {"atime": "on"}}]),
        ),
        (
            "use",
            "OK           M:        \\\\granary\\Family Photos    Microsoft Windows Network\n\
             Unavailable  N:   \\\\granary\\x  N\n",
            json!([
                {"kind": "mount", "source": "\\\\granary\\Family \
                                             Photos", "at": "M:", "type": "smb", "options": [], "boot": false, "mounted": true},
                {"kind": "mount", "source": "\\\\granary\\x", "at": "N:", "type": "smb", "options": [], "boot": false, "mounted": true},
            ]),
        ),
        (
            "shares",
            "smb://mira:x@granary/media /Volumes/media\n",
            json!([{"kind": "mount", "source": "//mira:[hidden]@granary/media", "at": "/Volumes/media", "type": "smb", "options": [], "boot": false, "mounted": true}]),
        ),
        (
            "printed",
            "//mira@granary/media on /Volumes/media (smbfs, nodev)\n/dev/sda1 on / type ext4 \
             (rw,relatime)\n",
            json!([
                {"kind": "mount", "source": "//mira@granary/media", "at": "/Volumes/media", "type": "smbfs", "options": ["nodev"], "boot": false, "mounted": true},
                {"kind": "mount", "source": "/dev/sda1", "at": "/", "type": "ext4", "options": ["rw", "relatime"], "boot": false, "mounted": true},
            ]),
        ),
        (
            "subgid",
            "lantern:100000:65536\n",
            json!([{"kind": "subordinate", "of": "gid", "account": "lantern", "first": 100_000, "count": 65_536}]),
        ),
    ] {
        let (facts, skipped) = read_one(name, text);
        assert_eq!((json!(facts), skipped), (expected, Vec::<String>::new()), "{name}");
    }
}

#[test]
fn what_cannot_be_understood_is_named_and_the_rest_is_read() {
    for (name, text, facts, told) in [
        (
            "fstab",
            "a /b ext4 ro\nonly two\n",
            1,
            vec![
                "1: it has four fields, and needs six; mount(8) takes the others as defaults",
                "2: it has two fields, and needs six",
            ],
        ),
        (
            "exports",
            "/a *(ro)\n/b *(rw,quick)\n/c *(ro)\n",
            2,
            vec!["2: \"quick\" is no option of an export"],
        ),
        (
            "smb.conf",
            "[a]\npath = /a\nread only = perhaps\n[b]\npath = /b\ninclude = /nowhere/more.conf\n",
            2,
            vec![
                "3: \"perhaps\" is neither yes nor no",
                "6: can't read /nowhere/more.conf: it lies outside of what was named; --follow DIR \
                 allows that",
            ],
        ),
        (
            "compose.yaml",
            "services:\n  a:\n    image: ${GONE:?say it}\n    env_file: gone.env\n    volumes: \
             ['${NOTHING}/x:/x', 'a:/b:quick']\n    ports: ['x']\n",
            2,
            vec![
                "3: GONE has to have a value, and has none: say it",
                "5: NOTHING has no value; an engine takes an empty one",
                "5: \"quick\" is no mode of a volume",
                "6: \"x\" is no port",
                "4: can't read gone.env: there is no such file",
            ],
        ),
        (
            "compose.yaml",
            "services:\n  a: {extends: b}\n  b: {extends: a}\n  c: 7\n",
            2,
            vec![
                "4: a service is a map",
                "2: services extend each other in a circle",
                "3: services extend each other in a circle",
            ],
        ),
        (
            "passwd",
            "root:x:0:0::/:/bin/sh\nmira:x:1:1::/:/bin/sh\nx:y\n",
            2,
            vec!["3: an account is `name:x:UID:GID:…`"],
        ),
    ] {
        let (read, skipped) = read_one(name, text);
        assert_eq!(
            (read.len(), skipped),
            (facts, told.iter().map(|t| (*t).to_owned()).collect()),
            "{text}"
        );
    }
    // Files that include each other end somewhere.
    let folder = Folder::new();
    folder.write("smb.conf", "[a]\npath = /a\ninclude = other.conf\n");
    folder.write("other.conf", "include = smb.conf\n");
    let answer = folder.run("adopt granary:smb.conf");
    assert!(
        answer.code == 0 && answer.stderr.contains("files include each other without end"),
        "{}",
        answer.stderr
    );
}

#[test]
fn a_file_that_is_broken_as_a_whole_is_refused_and_the_others_are_read() {
    let folder = hollow();
    folder.write("broken.yaml", "services:\n  a:\n    image: [x\n  b: }\n");
    let answer = folder.run("adopt granary:broken.yaml conf/millrace -o site.toml --format json");
    assert_eq!(answer.code, 2);
    assert!(
        answer.stderr.contains("broken.yaml:4:") && answer.stderr.contains("this is no YAML"),
        "{}",
        answer.stderr
    );
    assert!(!folder.path("site.toml").exists());
    let read: Value = serde_json::from_str(&answer.stdout).unwrap();
    assert_eq!(facts(&read, "service").len(), 1);
    // An alias that multiplies, and what is nested without end.
    let laughs: String = (1..12)
        .map(|n| {
            format!("  l{n}: &l{n} {{<<: [{}]}}\n", vec![format!("*l{}", n - 1); 9].join(", "))
        })
        .collect();
    folder.write("bomb.yaml", format!("services:\nx:\n  l0: &l0 {{a: 1}}\n{laughs}"));
    folder
        .write("deep.yaml", format!("services:\n  a: {}{}\n", "[".repeat(5000), "]".repeat(5000)));
    for name in ["bomb.yaml", "deep.yaml"] {
        let started = std::time::Instant::now();
        let answer = folder.run(&format!("adopt granary:{name}"));
        assert!(answer.code == 0 || answer.stderr.contains(name), "{}", answer.stderr);
        assert!(started.elapsed().as_secs() < 20, "{name}");
    }
    for (arguments, told) in [
        ("adopt granary:nothing.yaml", "can't read nothing.yaml: there is no such file"),
        ("adopt granary:site", "can't read site: there is no such file"),
        ("adopt gran/ary", "can't read gran/ary: there is no such file"),
        ("adopt .", "has no name that a host could have"),
    ] {
        folder.write("noise.txt", "just words\n");
        let answer = folder.run(arguments);
        assert_eq!(answer.code, 2, "{arguments}");
        if arguments != "adopt ." {
            assert!(answer.stderr.contains(told), "{arguments}: {}", answer.stderr);
        }
    }
    let answer = folder.run("adopt granary:noise.txt");
    assert!(
        answer.code == 2 && answer.stderr.contains("noise.txt is no configuration that is known"),
        "{}",
        answer.stderr
    );
}

#[test]
fn a_process_is_a_viewpoint() {
    let folder = Folder::new();
    folder.write("a.mkv", "x");
    let own = std::process::id();
    let path = folder.path("a.mkv");
    let trace = folder.json(&format!("trace {} --from process:{own}", path.display()));
    assert_eq!(
        (&trace["complete"], &trace["from"]),
        (&json!(true), &json!(format!("process:{own}")))
    );
    let inode = std::os::unix::fs::MetadataExt::ino(&std::fs::metadata(&path).unwrap());
    assert_eq!(trace["ends"]["inode"], json!(inode));
    let access =
        folder.json(&format!("access {} --from process:{own} --need read", path.display()));
    assert_eq!(access["verdicts"][0]["allowed"], true);
    assert_eq!(access["verdicts"][0]["evidence"], "observed");
    for (view, told) in [
        ("process:x", "x is no number of a process"),
        ("process:0", "0 is no number of a process"),
        ("process:4194305", "there is no process 4194305"),
    ] {
        let answer = folder.run(&format!("trace / --from {view}"));
        assert!(answer.code == 2 && answer.stderr.contains(told), "{}", answer.stderr);
    }
}

#[test]
fn a_folder_has_a_name_in_every_view() {
    let folder = Folder::demo();
    let told = folder.json("trace --to granary:/loft/media/films");
    assert_eq!(
        (&told["schema"], &told["to"]),
        (&json!("tarvek/trace-to/1"), &json!({"host": "granary", "path": "/loft/media/films"}))
    );
    let names: Vec<(&str, &str, &str)> = told["names"]
        .as_array()
        .unwrap()
        .iter()
        .map(|name| {
            let text = |key: &str| name[key].as_str().unwrap();
            (text("from"), text("path"), text("access"))
        })
        .collect();
    let expected = [
        ("host:granary", "/loft/media/films", "rw"),
        ("service:lantern", "/media/films", "ro"),
        ("service:drover", "/data/films", "rw"),
        ("service:joiner", "/data/films", "rw"),
        ("host:millrace", "/mnt/granary/media/films", "ro"),
        ("client:parlour", "M:\\films", "ro"),
    ];
    assert_eq!(names[..5], expected[..5]);
    assert_eq!((names[5].0, names[5].1), (expected[5].0, expected[5].1));
    for (to, told) in [
        ("granary", "names no folder of a host"),
        ("granery:/x", "did you mean granary?"),
        ("granary:x", "names no folder"),
    ] {
        let answer = folder.run(&format!("trace --to {to}"));
        assert!(answer.code == 2 && answer.stderr.contains(told), "{}", answer.stderr);
    }
    // The same folder, from a client, by an address.
    for written in ["smb://granary/media/films", "M:\\films", "\\\\granary\\media\\films"] {
        let trace = folder.json(&format!("trace {written} --from client:parlour"));
        assert_eq!(trace["ends"]["path"], "/loft/media/films", "{written}");
    }
    let trace = folder.json("trace nfs://granary.lan/loft/media/films --from host:millrace");
    assert_eq!(trace["ends"]["path"], "/loft/media/films");
}

#[test]
fn this_machine_is_judged_without_a_layout() {
    let folder = Folder::new();
    let answer = folder.run("check --here --format json");
    assert!(answer.code < 2, "{}", answer.stderr);
    let told: Value = serde_json::from_str(&answer.stdout).unwrap();
    assert_eq!(told["hosts"].as_array().unwrap().len(), 1);
    let answer = folder.run("check");
    assert!(
        answer.code == 2 && answer.stderr.contains("`tarvek adopt` makes one from what exists"),
        "{}",
        answer.stderr
    );
}

/// The names of every share's folder and of what lies below, by who knows it.
fn names(folder: &Folder, layout: &str) -> Vec<String> {
    let parsed: toml::Table = folder.read(layout).parse().unwrap();
    let mut names = Vec::new();
    for share in parsed["share"].as_table().unwrap().values() {
        let (host, path) = (share["host"].as_str().unwrap(), share["path"].as_str().unwrap());
        for below in ["", "/films", "/intake/done"] {
            let told = folder.json(&format!("trace --layout {layout} --to {host}:{path}{below}"));
            for name in told["names"].as_array().unwrap() {
                // What clients need is told in words, which no program reads.
                if !name["from"].as_str().unwrap().starts_with("client:") {
                    names.push(format!("{path}{below} {name}"));
                }
            }
        }
    }
    names.sort();
    names.dedup();
    names
}

/// Writes what the hosts of a layout need, and the words of the command that adopts it.
fn emitted(folder: &Folder) -> String {
    let layout = folder.read("tarvek.toml");
    let parsed: toml::Table = layout.parse().unwrap();
    // Either of the two starts the containers.
    let containers =
        if folder.read("brief.toml").contains("podman") { "quadlet" } else { "compose" };
    let mut adopt = String::from("adopt");
    for host in parsed["host"].as_table().unwrap().keys() {
        for what in [containers, "fstab", "exports", "smb"] {
            folder.run(&format!("emit {what} --host {host} -o out/{host}/{what}"));
        }
        if folder.path(&format!("out/{host}")).exists() {
            adopt += &format!(" {host}:out/{host}");
        }
    }
    adopt
}

/// What is found in a layout, but for what no configuration says: what is backed up, and that
/// nobody looked.
fn found(folder: &Folder, layout: &str) -> Vec<String> {
    let told = folder.json(&format!("check --layout {layout}"));
    let findings = told["findings"].as_array().unwrap().iter();
    let mut found: Vec<String> = findings
        .filter(|finding| {
            !["layout/no-backup", "layout/no-library", "survey/none"]
                .contains(&text(finding, "rule"))
        })
        .map(|finding| format!("{}: {}", text(finding, "rule"), text(finding, "message")))
        .collect();
    found.sort();
    found
}

fn text<'a>(value: &'a Value, key: &str) -> &'a str {
    value[key].as_str().unwrap()
}

/// Every example, as it is and with one fault each: the names, rights and findings of what is
/// adopted, and that there is nothing to add to the layout from which it was emitted.
#[test]
fn what_is_emitted_is_adopted_as_it_was() {
    let faults = [
        ("", "", ""),
        ("squash = \"root\"", "squash = \"none\"", "share/root-trusted"),
        (
            "clients = \"10.20.0.0/24\", access = \"ro\"",
            "clients = \"*\", access = \"rw\"",
            "share/any-client",
        ),
        ("guests = false", "guests = true", "share/guests-read"),
        ("vers=3.1.1", "vers=1.0", "mount/old-protocol"),
    ];
    let examples = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples");
    let mut fired = std::collections::BTreeSet::new();
    for brief in std::fs::read_dir(examples).unwrap() {
        let brief = std::fs::read(brief.unwrap().path()).unwrap();
        for (sound, fault, rule) in faults {
            let folder = Folder::new();
            folder.write("brief.toml", &brief);
            assert_eq!(folder.run("draft --brief brief.toml -o drafted.toml").code, 0);
            let drafted = folder.read("drafted.toml");
            if !drafted.contains(sound) {
                continue;
            }
            let layout = drafted.replace(sound, fault);
            folder.write("tarvek.toml", &layout);
            folder.write("same.toml", &layout);
            let adopt = emitted(&folder);
            for file in ["adopted.toml", "same.toml"] {
                let answer = folder.run(&format!("{adopt} -o {file}"));
                assert_eq!(answer.code, 0, "{}", answer.stderr);
            }
            assert_eq!(folder.read("same.toml"), layout);
            let adopted = folder.read("adopted.toml");
            let found = [found(&folder, "adopted.toml"), found(&folder, "tarvek.toml")];
            assert_eq!(found[0], found[1], "{adopted}");
            assert_eq!(found[0].iter().any(|told| told.starts_with(rule)), !found[0].is_empty());
            fired.extend(found[0].iter().map(|_| rule));
            let known = names(&folder, "tarvek.toml");
            assert_eq!(names(&folder, "adopted.toml"), known, "{adopted}");
        }
    }
    assert_eq!(fired.len(), faults.len() - 1, "{fired:?}");
}

/// One word that a layout can't hold costs no more than itself: the rest of the share stays, and
/// what refers to it.
#[test]
fn no_field_of_a_fact_is_lost_in_json() {
    let folder = Folder::new();
    folder.write(
        "conf/box/smb.conf",
        "[media]\npath=/loft/media\nguest ok=yes\nguest only=yes\nforce create mode=0660\n\
         force directory mode=2770\nvfs objects=recycle\n",
    );
    folder.write("conf/box/exports", "/loft granary(ro,crossmnt)\n");
    folder.write(
        "conf/box/compose.yaml",
        "services:\n  lantern:\n    image: x\n    volumes: [\"kept:/data:z\"]\nvolumes: {kept: \
         {}}\n",
    );
    folder.write(
        "conf/box/lantern.container",
        "[Container]\nImage=x\nVolume=/loft:/media:ro,idmap\n",
    );
    let answer = folder.json("adopt conf/box");
    let facts = answer["facts"].as_array().unwrap();
    for (kind, key, value) in [
        ("share", "guest_only", json!(true)),
        ("share", "force_create_mode", json!("0660")),
        ("share", "force_folder_mode", json!("2770")),
        ("share", "recycle", json!(true)),
        ("export", "crossmnt", json!(true)),
        ("volume", "label", json!("shared")),
        ("mapping", "idmap", json!(true)),
    ] {
        let told = facts.iter().any(|fact| fact["kind"] == kind && fact[key] == value);
        assert!(told, "{kind} {key}: {answer:#}");
    }
}

#[test]
fn what_no_layout_holds_is_left_out_and_nothing_else() {
    let folder = Folder::new();
    folder.write("conf/box/fstab", "granary:/loft/media /mnt/media nfs ro,nofail 0 0\n");
    let adopt = |exports: &str, smb: &str| {
        folder.write("conf/granary/exports", exports);
        folder.write("conf/granary/smb.conf", smb);
        let _ = std::fs::remove_file(folder.path("adopted.toml"));
        let answer = folder.run("adopt conf/granary conf/box -o adopted.toml");
        assert_eq!(answer.code, 0, "{}", answer.stderr);
        let layout: toml::Table = folder.read("adopted.toml").parse().unwrap();
        (layout, answer.stderr)
    };
    let exports = "/loft/media box(ro) 10.20.0.0/24(rw)\n";
    let (layout, _) = adopt(exports, "[media]\npath = /loft/media\nvalid users = @keepers %S\n");
    let only = &layout["share"]["media"]["smb"]["only"];
    assert_eq!(only.as_array().unwrap()[1].as_str(), Some("media"), "%S is the share");
    for (exports, smb, clients, told) in [
        (exports, "valid users = %U", 2, "whom %U means depends on who connects"),
        (exports, "valid users = a:b", 2, "smb.conf:1: not in the layout"),
        ("/loft/media box(ro) @a;b(rw)\n", "", 1, "exports:1: not in the layout"),
        (
            "/loft/media box(ro,anonuid=4294967295) 10.20.0.7(rw)\n",
            "",
            1,
            "exports:1: not in the layout",
        ),
    ] {
        let (layout, said) = adopt(exports, &format!("[media]\npath = /loft/media\n{smb}\n"));
        assert!(said.contains(told), "{said}");
        let share = &layout["share"]["media"];
        assert_eq!(share["nfs"].as_array().unwrap().len(), clients, "{share}");
        assert_eq!(share.get("smb").is_none(), !smb.is_empty(), "{share}");
        assert_eq!(layout["mount"][0]["from"].as_str(), Some("granary:media"));
        assert!(!folder.read("adopted.toml").contains("share media nfs @a;b"));
    }
    let (layout, said) =
        adopt("/loft/media @a;b(ro)\n", "[media]\npath = /loft/media\nvalid users = a:b\n");
    assert!(said.contains("not in the layout"), "{said}");
    assert_eq!(layout["mount"][0]["from"].as_str(), Some("granary:/loft/media"));
}

#[test]
fn what_a_compose_file_says_in_rarer_words() {
    let folder = Folder::new();
    folder.write(
        "conf/box/compose.yaml",
        "services:\n  lantern:\n    image: x\n    user: lantern:keepers\n    \
         network_mode: \"service:drover\"\n    volumes:\n      \
         - {type: volume, source: v, target: /media, volume: {subpath: films/}}\n      \
         - {type: volume, source: v, target: /out, volume: {subpath: ../x}}\nvolumes:\n  \
         v: {driver_opts: {type: nfs, device: \":/loft/media\", o: \"addr=granary,ro\"}}\n",
    );
    let answer = folder.run("adopt conf/box -o adopted.toml");
    assert_eq!(answer.code, 0, "{}", answer.stderr);
    assert!(!answer.stdout.contains("password"), "an account and a group: {}", answer.stdout);
    assert!(answer.stderr.contains("compose.yaml:8: a subpath leads out"), "{}", answer.stderr);
    let told = "this is that of service:drover";
    assert!(answer.stderr.contains(told), "{}", answer.stderr);
    let layout: toml::Table = folder.read("adopted.toml").parse().unwrap();
    let lantern = &layout["service"]["lantern"];
    assert!(lantern.get("network").is_none());
    let maps = lantern["map"].as_array().unwrap();
    assert_eq!(maps.len(), 1);
    assert_eq!(maps[0]["source"].as_str(), Some("granary:/loft/media/films"));
}

#[test]
fn containers_of_hypervisors_and_automounts() {
    let folder = Folder::new();
    folder.write(
        "conf/box/101.conf",
        "hostname: drover\nmp0: /loft/media,mp=/data,ro=1\nunprivileged: 1\nlxc.idmap: u 0 100000 \
         840\nlxc.idmap: u 840 840 1\n\
         lxc.idmap: g 0 100000 840\nlxc.idmap: g 840 840 1\nlxc.mount.entry: /loft/x y none \
         bind,create=dir 0 0\n",
    );
    let mount = "[Mount]\nWhat=granary:/loft\nWhere=/mnt/loft\nType=nfs\nOptions=hard\n";
    folder.write("conf/box/mnt-loft.mount", mount);
    let automount = "[Automount]\nWhere=/mnt/loft\n[Install]\nWantedBy=multi-user.target\n";
    folder.write("conf/box/mnt-loft.automount", automount);
    let acl = "# file: loft\n# owner: root\n# group: root\nuser::rwx\nuser:lantern:r-x\n\
               group::r-x\nmask::r-x\nother::---\ndefault:user:lantern:r-x\n";
    folder.write("conf/box/acl", acl);
    folder.write("conf/box/notes", "words of a person\n");
    folder.write("conf/box/x.env", "A=b\n");
    let answer = folder.run("adopt conf/box -o adopted.toml");
    assert!(!answer.stdout.contains("password"), "{}", answer.stdout);
    let passed = "  passed over, no configuration that is known: conf/box/notes\n";
    assert!(answer.stdout.contains(passed), "{}", answer.stdout);
    assert_eq!((answer.code, answer.stderr.contains("101.conf")), (0, false), "{}", answer.stderr);
    assert!(answer.stdout.contains("4 id ranges"), "{}", answer.stdout);
    let layout: toml::Table = folder.read("adopted.toml").parse().unwrap();
    let drover = &layout["host"]["drover"];
    assert_eq!(drover["map"].as_array().unwrap().len(), 2);
    let ranges: Vec<_> = drover["idmap"].as_array().unwrap().iter().collect();
    let of = |key: &str| ranges.iter().map(|range| range[key].as_integer().unwrap()).collect();
    let told: [Vec<i64>; 3] = ["inside", "outside", "count"].map(of);
    assert_eq!(told, [vec![0, 840], vec![100_000, 840], vec![840, 1]]);
    let options = layout["mount"][0]["options"].as_str();
    assert_eq!(options, Some("hard,x-systemd.automount"));
    let found = found(&folder, "adopted.toml");
    assert!(!found.iter().any(|told| told.starts_with("mount/boot-hang")), "{found:?}");
}

#[test]
fn a_circle_or_a_broken_file_hides_nothing_of_the_others() {
    let folder = Folder::new();
    folder.write("conf/granary/a.conf", "include = b.conf\n[films]\npath = /loft/films\n");
    folder.write("conf/granary/b.conf", "include = a.conf\n[books]\npath = /loft/books\n");
    folder.write("conf/granary/c.conf", "include = d.conf\n[music]\npath = /loft/music\n");
    folder.write("conf/granary/d.conf", "include = e.conf\n[photos]\npath = /loft/photos\n");
    folder.write("conf/granary/e.conf", "[series]\npath = /loft/series\n");
    folder.write("conf/granary/x.yaml", "services:\n  a:\n    image: [x\n");
    folder.write("conf/granary/y.yaml", "services:\n  lantern:\n    image: x\n");
    let answer = folder.run("adopt conf/granary --format json");
    assert_eq!(answer.code, 2, "one file is broken");
    assert!(answer.stderr.contains("x.yaml:4:1: this is no YAML"), "{}", answer.stderr);
    let read: Value = serde_json::from_str(&answer.stdout).unwrap();
    let mut told: Vec<&str> =
        facts(&read, "share").iter().map(|share| text(share, "name")).collect();
    told.sort_unstable();
    told.dedup();
    assert_eq!(told, ["books", "films", "music", "photos", "series"]);
    assert_eq!(facts(&read, "share").iter().filter(|s| s["name"] == "series").count(), 1);
    assert_eq!(facts(&read, "service").len(), 1);
}

/// Behind `fsid=0` the paths of NFSv4 begin; a path that a share has of its own is the one of
/// NFSv3.
#[test]
fn a_root_of_exports_is_where_paths_begin() {
    let folder = Folder::new();
    let exports = "/srv/nfs *(ro,fsid=0)\n/srv/nfs/films box(ro)\n";
    folder.write("conf/granary/exports", exports);
    let fstab = "granary:/films /mnt/films nfs4 ro,nofail 0 0\ngranary:/srv/nfs/films /mnt/own nfs \
                 ro,nofail 0 0\n\
                 granary:/ /mnt/all nfs4 ro,nofail 0 0\n";
    folder.write("conf/box/fstab", fstab);
    let answer = folder.run("adopt conf/granary conf/box -o tarvek.toml");
    assert_eq!(answer.code, 0, "{}", answer.stderr);
    for (path, end) in [
        ("/mnt/films", "/srv/nfs/films"),
        ("/mnt/own/a", "/srv/nfs/films/a"),
        ("/mnt/all/films", "/srv/nfs/films"),
        ("/mnt/all", "/srv/nfs"),
    ] {
        let traced = folder.json(&format!("trace {path} --from host:box"));
        assert_eq!(traced["ends"]["host"], "granary", "{traced}");
        assert_eq!(traced["ends"]["path"], end, "{traced}");
    }
    let found = found(&folder, "tarvek.toml");
    assert!(!found.iter().any(|told| told.starts_with("share/not-offered")), "{found:?}");
}

/// Everything that `adopt` prints of a folder, in both formats, and what it writes.
fn everything(folder: &Folder, arguments: &str, set: &[(&str, &str)]) -> String {
    let mut all = String::new();
    for format in ["--format json", "--format text -v", "-o out.toml"] {
        let words = format!("{arguments} {format}");
        let output =
            folder.command(words.split_whitespace()).envs(set.iter().copied()).output().unwrap();
        all += &String::from_utf8(output.stdout).unwrap();
        all += &String::from_utf8(output.stderr).unwrap();
    }
    all + &std::fs::read_to_string(folder.path("out.toml")).unwrap_or_default()
}

#[test]
fn nothing_of_a_file_that_others_name_is_shown_unless_it_is_a_fact() {
    let line = "hunter2 is what nobody may see";
    for (name, text) in [
        ("compose.yaml", "include: [part]\nservices: {a: {volumes: ['/x:/x']}}\n"),
        ("compose.yaml", "services: {a: {env_file: part, volumes: ['/x:/x']}}\n"),
        (
            "compose.yaml",
            "services: {a: {extends: {file: part, service: b}, volumes: ['/x:/x']}}\n",
        ),
        ("a.container", "[Container]\nImage=x\nEnvironmentFile=part\nVolume=/x:/x\n"),
        ("smb.conf", "[a]\npath = /x\ninclude = part\n"),
        ("box.conf", "lxc.uts.name = box\nlxc.rootfs.path = /r\nlxc.include = PLACE/conf/part\n"),
    ] {
        for part in [
            format!("{line}\n"),
            format!("- {line}\n"),
            format!(
                "services: {{b: {{ports: ['{line}'], volumes: ['/y:/y:{line}']}}}}\nx: ['{line}'\n"
            ),
            format!("UMASK={line}\nPUID={line}\n{line}\n"),
            format!("[b]\npath = /y\nread only = {line}\ncreate mask = {line}\n{line}\n"),
            format!("lxc.idmap = {line}\nlxc.mount.entry = hunter2\n{line}\n"),
        ] {
            let folder = Folder::new();
            let text =
                text.replace("PLACE", folder.path("").to_str().unwrap().trim_end_matches('/'));
            folder.write(&format!("conf/{name}"), &text).write("conf/part", &part);
            let told = everything(&folder, &format!("adopt granary:conf/{name}"), &[]);
            assert!(!told.contains("hunter2"), "{name}: {part}{told}");
            assert!(told.contains("\"kind\""), "the rest is read: {told}");
        }
    }
}

#[test]
fn files_are_followed_only_below_what_was_named() {
    let folder = Folder::new();
    folder
        .write("secret/umask.env", "UMASK=027\n")
        .write(
            "conf/compose.yaml",
            "services:\n  a: {env_file: ../secret/umask.env}\n  b: \
                                     {env_file: link.env}\n  c: {env_file: own.env}\n",
        )
        .write("conf/own.env", "UMASK=002\n");
    std::os::unix::fs::symlink(folder.path("secret/umask.env"), folder.path("conf/link.env"))
        .unwrap();
    let umasks = |arguments: &str| {
        let read = folder.json(arguments);
        let facts = read["facts"].as_array().unwrap().clone();
        facts.iter().map(|fact| fact["umask"].clone()).collect::<Vec<Value>>()
    };
    let told = everything(&folder, "adopt granary:conf", &[]);
    assert!(
        told.contains("--follow DIR allows that") && told.contains("leads out of its folder"),
        "{told}"
    );
    assert_eq!(umasks("adopt granary:conf"), [Value::Null, Value::Null, json!("0002")]);
    let followed = umasks("adopt granary:conf --follow secret");
    assert_eq!(followed, [json!("0027"), Value::Null, json!("0002")]);
    let refused = folder.run("adopt granary:conf --follow nowhere");
    assert!(refused.code == 2 && refused.stderr.contains("no such folder"), "{}", refused.stderr);
}

#[test]
fn the_environment_counts_only_where_it_is_asked_for_and_stays_out_of_layouts() {
    let folder = Folder::new();
    folder
        .write(
            "conf/compose.yaml",
            "services:\n  a:\n    user: ${WHO:-1:1}\n    volumes:\n      - \
                                     ${PLACE}/x:/x\n      - ${HOME}/y:/y\n  b:\n    \
                                     volumes:\n      - ${API_TOKEN}/z:/z\n      - ${SUB}/w:/w\n",
        )
        .write("conf/.env", "SUB=${PLACE}/sub\n");
    let set = [("WHO", "77:77"), ("PLACE", "/outside"), ("API_TOKEN", "hunter2"), ("HOME", "/h")];
    let told = everything(&folder, "adopt granary:conf", &set);
    assert!(
        !told.contains("/outside") && !told.contains("77:77") && !told.contains("hunter2"),
        "{told}"
    );
    assert!(told.contains("PLACE has no value") && told.contains("/h/y"), "{told}");
    std::fs::remove_file(folder.path("out.toml")).unwrap();
    let told = everything(&folder, "adopt granary:conf --environment", &set);
    assert!(
        told.contains("/outside/x") && told.contains("77:77") && !told.contains("hunter2"),
        "{told}"
    );
    let layout = folder.read("out.toml");
    assert!(!layout.contains("/outside") && !layout.contains("77"), "{layout}");
    assert!(told.contains("not in the layout") && told.contains("from the environment"), "{told}");
}

#[test]
fn includes_in_circles_and_fans_end_and_ranges_of_ports_stay_ranges() {
    let started = std::time::Instant::now();
    let names = ["compose.yaml", "b.yaml", "c.yaml", "d.yaml"];
    let folder = Folder::new();
    for name in names {
        let all: Vec<&str> =
            names.into_iter().chain(names).filter(|other| *other != name).collect();
        folder.write(
            &format!("conf/{name}"),
            format!("include: [{}]\nservices:\n  {name}: {{volumes: ['/x:/x']}}\n", all.join(", ")),
        );
        let lines: String = names
            .iter()
            .map(|other| format!("lxc.include = {}/{other}.conf\n", folder.path("box").display()))
            .collect();
        folder.write(
            &format!("box/{name}.conf"),
            format!("lxc.uts.name = box\nlxc.rootfs.path = /r\n{lines}"),
        );
    }
    let read = folder.json("adopt granary:conf/compose.yaml");
    assert_eq!(
        read["facts"].as_array().unwrap().iter().filter(|fact| fact["kind"] == "service").count(),
        4
    );
    folder.json("adopt granary:box/compose.yaml.conf");
    let ports: String =
        (0..400).map(|n| format!("  s{n}: {{ports: ['1-65535:1-65535']}}\n")).collect();
    folder.write(
        "wide/compose.yaml",
        format!("services:\n{ports}  few: {{ports: ['9000-9002:80-82']}}\n"),
    );
    let read = folder.json("adopt granary:wide -o wide.toml");
    let facts: Vec<&Value> =
        read["facts"].as_array().unwrap().iter().filter(|fact| fact["kind"] == "port").collect();
    assert!(facts.iter().any(|fact| fact["count"] == 65535));
    assert!(facts.len() < 70_000, "{}", facts.len());
    assert!(
        folder.read("wide.toml").contains("ports = [\"9000-9002:80-82\"]"),
        "{}",
        folder.read("wide.toml")
    );
    assert!(started.elapsed().as_secs() < 60, "{:?}", started.elapsed());
}
