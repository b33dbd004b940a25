//! Drafting: any brief without contradictions gives a layout without blockers or risks;
//! contradictions are told at once; what is emitted from the examples is what it was.

mod support;

use std::path::Path;

use proptest::prelude::*;
use support::Folder;
use tarvek_core::check::report::check;
use tarvek_core::draft::draft;
use tarvek_core::layout::site::Layout;
use tarvek_core::site::join::Site;
use tarvek_core::words::rule::Severity;
use tarvek_formats::{brief, layout};

const KINDS: &[&str] = &["films", "series", "music", "photos", "books", "home-video"];

/// One of some words.
fn one_of(words: &'static [&'static str]) -> impl Strategy<Value = &'static str> {
    prop::sample::select(words)
}

/// The text of a brief in which nothing contradicts anything.
fn briefs() -> impl Strategy<Value = String> {
    let storage = (one_of(&["zfs", "btrfs", "xfs", "ext4"]), any::<bool>(), any::<bool>());
    let kinds = prop::sample::subsequence(KINDS, 1..=KINDS.len());
    let originals = prop::collection::vec(any::<bool>(), KINDS.len());
    // Where each of three services is: nowhere, on the storage host, on one of two others.
    let services = prop::collection::vec(0..4usize, 3);
    let site = (
        any::<bool>(),
        one_of(&["docker", "podman", "none"]),
        one_of(&["hardlink", "rename", "copy"]),
    );
    let reach = (one_of(&["nfs", "smb"]), one_of(&["nfs", "smb"]), any::<bool>());
    let people =
        (0..3u32, 0..3u32, prop::collection::vec(one_of(&["windows", "macos", "linux"]), 0..3));
    (storage, kinds, originals, services, site, reach, people).prop_map(
        |((filesystem, selinux, other_pool), kinds, originals, services, site, reach, people)| {
            let (acls, containers, want) = site;
            let originals: Vec<&str> = kinds
                .iter()
                .zip(&originals)
                .filter(|(_, original)| **original)
                .map(|(kind, _)| *kind)
                .collect();
            let hosts = ["", "granary", "millrace", "kelp"];
            let roles = ["serve", "fetch", "sort"];
            let over_smb =
                |at: usize| (at == 2 && reach.0 == "smb") || (at == 3 && reach.1 == "smb");
            let writes = services[1] > 0 || services[2] > 0;
            let writes_over_smb = services[1..].iter().any(|&at| over_smb(at));
            // Only what goes together.
            let want = if writes_over_smb
                || (writes && other_pool)
                || (want == "hardlink" && services[2] == 0)
            {
                "copy"
            } else {
                want
            };
            let mut text = format!(
                "brief = 1\nsite = 'Kestrel Hollow'\nkinds = {kinds:?}\n\
                                    originals = {originals:?}\n"
            );
            text += &format!("acls = {acls}\ncontainers = '{containers}'\n");
            if writes {
                text += &format!("want = '{want}'\n");
            }
            text += &format!(
                "[storage]\nhost = 'granary'\npool = 'loft'\nfilesystem = \
                              '{filesystem}'\nselinux = {selinux}\n"
            );
            if other_pool && writes {
                text += "intake_pool = 'hopper'\n";
            }
            if reach.2 {
                text += "subnet = '10.20.0.0/24'\n";
            }
            text += &format!(
                "[apps.millrace]\nreach = '{}'\n[apps.kelp]\nreach = \
                              '{}'\n",
                reach.0, reach.1
            );
            for (n, &at) in services.iter().enumerate().filter(|(_, at)| **at > 0) {
                text += &format!(
                    "[service.s{n}]\nrole = '{}'\nid = {}\nhost = \
                                  '{}'\n",
                    roles[n],
                    970 + n,
                    hosts[at]
                );
            }
            let names = |count: u32, from: u32, word: &str| {
                (0..count)
                    .map(|n| {
                        format!(
                            "{word}{n} = \
                                            {}",
                            from + n
                        )
                    })
                    .collect::<Vec<_>>()
                    .join(", ")
            };
            text += &format!(
                "[people]\nadd = {{ {} }}\nwatch = {{ {} \
                              }}\n",
                names(people.0, 1101, "a"),
                names(people.1, 1201, "w")
            );
            for (n, os) in people.2.iter().enumerate() {
                text += &format!("[client.c{n}]\nos = '{os}'\n");
            }
            text
        },
    )
}

/// The layout as it is read back, without its places in the file.
fn read_back(text: &str) -> Layout {
    layout::read("drafted", text.as_bytes()).unwrap_or_else(|refused| panic!("{refused}\n{text}"))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn any_brief_gives_a_layout_without_blockers_or_risks(text in briefs()) {
        let brief = brief::read("brief", text.as_bytes());
        let brief = brief.unwrap_or_else(|refused| panic!("{refused}\n{text}"));
        let draft = draft(&brief);
        let written = layout::write(&draft.layout, &|_| Vec::new());
        let read = read_back(&written);
        // Written once more it is the same: nothing was lost on the way.
        prop_assert_eq!(layout::write(&read, &|_| Vec::new()), written.clone());
        let site = Site::join(read, Vec::new()).unwrap();
        let report = check(&site);
        let bad: Vec<String> = report
            .findings
            .iter()
            .filter(|finding| finding.severity > Severity::Note)
            // Nobody has looked yet, and a brief need not have a service that serves.
            .filter(|finding| !["survey/none", "layout/no-library"].contains(&finding.rule.id))
            .map(|finding| format!("{} {}", finding.rule, finding.message))
            .collect();
        prop_assert!(bad.is_empty(), "{:?}\n{}\n{}", bad, text, written);
        for reason in &draft.reasons {
            prop_assert!(!reason.why.is_empty() && !reason.about.is_empty());
        }
    }
}

#[test]
fn contradictions_are_told_at_once_with_their_line_and_the_choice() {
    let folder = Folder::new();
    folder.write(
        "brief.toml",
        "brief = 1\nsite = 'x'\nkinds = ['films', 'photos']\noriginals = ['photos', 'books']\n\
         apart = ['films']\nwant = 'hardlink'\n\
         [storage]\nhost = 'granary'\npool = 'loft'\nfilesystem = 'zfs'\nintake_pool = 'hopper'\n\
         [apps.millrace]\nreach = 'smb'\n\
         [service.lantern]\nrole = 'serve'\nid = 1101\naccess = 'rw'\n\
         [service.joiner]\nrole = 'sort'\nid = 0\naccess = 'ro'\nkinds = ['photos']\n\
         [people]\ngid = 2200\nadd = { mira = 1101 }\n\
         [client.millrace]\nperson = 'nobody'\n",
    );
    insta::assert_snapshot!(folder.run("draft --brief brief.toml -o out.toml").whole());
    assert!(!folder.path("out.toml").exists());
}

#[test]
fn mistakes_in_a_brief_are_told_at_once() {
    let folder = Folder::new();
    folder.write(
        "brief.toml",
        "brief = 1\nkinds = ['films', 'musik']\nwant = 'link'\n[storage]\nhost = 'Granary!'\npool \
         = 'loft'\nfilesytem = 'zfs'\nat = 'loft'\n\
         [service.lantern]\nrole = 'serve'\nid = '840'\nhost = 'milrace'\n[apps.millrace]\n",
    );
    insta::assert_snapshot!(folder.run("draft --brief brief.toml").whole());
    for (text, words) in [
        (&b""[..], "the brief is empty"),
        (b"\xff", "no UTF-8"),
        (b"brief = 2\n", "a brief of another version"),
        (b"tarvek = 1\nsite = 'x'\n", "unknown key"),
    ] {
        folder.write("brief.toml", text);
        let answer = folder.run("draft --brief brief.toml");
        assert_eq!(answer.code, 2);
        assert!(answer.stderr.contains(words), "{words}: {}", answer.stderr);
    }
}

#[test]
fn options_are_a_brief_too_and_nothing_is_overwritten() {
    let folder = Folder::new();
    let options = "draft --site Weir --storage weir --pool barn --filesystem btrfs --kind films \
                   --kind music \
                   --serve lantern=840 --fetch drover=841 --sort drover=841 --add ines=1101 \
                   --client sofa:macos -o tarvek.toml";
    let drafted = folder.run(options);
    assert_eq!((drafted.code, drafted.stderr.as_str()), (0, ""));
    assert!(drafted.stdout.contains("fetches, sorts  as 841:2200"), "{}", drafted.stdout);
    assert_eq!(folder.run("check --allow-unready").code, 0);
    let again = folder.run(options);
    assert_eq!(again.code, 2);
    assert!(again.stderr.contains("tarvek.toml is there already"), "{}", again.stderr);
    let both = folder.run("draft --brief x.toml --site y");
    assert_eq!(both.code, 2);
    let nothing = folder.command(["draft"]).write_stdin("").output().unwrap();
    assert_eq!(nothing.status.code(), Some(2));
    // Any option is a brief, be it an incomplete one: none is passed over.
    for option in ["--original films", "--backup usb", "--client sofa", "--no-acls", "--at /barn"] {
        let answer = folder.run(&format!("draft {option}"));
        assert!(answer.stderr.contains("the options:"), "{option}: {}", answer.stderr);
    }
    let wrong = folder.run("draft --storage weir --pool barn --filesystem ntfs --kind films");
    assert!(wrong.stderr.contains("the options:"), "{}", wrong.stderr);
}

#[test]
fn emitted_files_stay_and_secrets_are_placeholders() {
    let folder = Folder::new();
    let brief = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples/smb.brief.toml");
    std::fs::copy(brief, folder.path("brief.toml")).unwrap();
    folder.run("draft --brief brief.toml -o tarvek.toml");
    let emitted = folder.run("emit fstab --host wheel -o out");
    assert_eq!(emitted.code, 0, "{}", emitted.stderr);
    let file = folder.path("out/etc/credentials/boathouse-media");
    let mode =
        std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&file).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    let text = std::fs::read_to_string(file).unwrap();
    assert!(text.contains("username=lantern\npassword=\n"), "{text}");
    let again = folder.run("emit fstab --host wheel -o out");
    assert_eq!(again.code, 2);
    assert!(again.stderr.contains("is there already; nothing was written"), "{}", again.stderr);
    assert!(folder.run("emit fstab").stderr.contains("--host boathouse or --host wheel"));
    assert!(folder.run("emit exports").stderr.contains("nothing of the kind"));
    assert_eq!(folder.run("emit compose --host nowhere").code, 2);
}

#[test]
fn the_examples_are_drafted_and_emitted_as_they_were() {
    let examples = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples");
    for example in ["one-box", "nfs", "smb"] {
        let folder = Folder::new();
        std::fs::copy(examples.join(format!("{example}.brief.toml")), folder.path("brief.toml"))
            .unwrap();
        let picture = folder.run("draft --brief brief.toml -o tarvek.toml");
        assert_eq!(picture.code, 0, "{}", picture.stderr);
        insta::assert_snapshot!(format!("{example}-picture"), picture.stdout);
        let mut all = format!("==== tarvek.toml\n{}", folder.read("tarvek.toml"));
        let hosts: Vec<String> = read_back(&folder.read("tarvek.toml"))
            .hosts
            .into_iter()
            .map(|h| h.name.raw().to_owned())
            .collect();
        for what in [
            "compose", "quadlet", "fstab", "systemd", "exports", "smb", "accounts", "script",
            "clients",
        ] {
            for host in &hosts {
                let emitted = folder.run(&format!("emit {what} --host {host}"));
                if emitted.code == 0 {
                    all += &format!("\n==== {what} for {host}\n{}", emitted.stdout);
                }
            }
        }
        insta::assert_snapshot!(format!("{example}-files"), all);
    }
}

#[test]
fn on_a_terminal_it_asks() {
    use std::io::Write;
    let folder = Folder::new();
    let pty = nix::pty::openpty(None, None).unwrap();
    let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_tarvek"))
        .args(["draft", "-o", "tarvek.toml"])
        .current_dir(folder.path(""))
        .stdin(pty.slave)
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let answers = "Weir Cottage\nweir\nbtrfs\nbarn\nfilms, photos\nphotos\n\nlantern=840\n\
                   drover=841\njoiner=842\nines=1101\n\n\nnone\n\n";
    std::fs::File::from(pty.master.try_clone().unwrap()).write_all(answers.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    let output = child.wait_with_output().unwrap();
    let asked = String::from_utf8(output.stderr).unwrap();
    assert!(asked.contains("Storage host [storage]: ") && asked.contains("SELinux"), "{asked}");
    let layout = read_back(&folder.read("tarvek.toml"));
    assert_eq!(
        (layout.site.raw(), layout.services.len(), layout.intakes.len()),
        ("Weir Cottage", 3, 1)
    );
    assert!(layout.services.iter().all(|service| service.map.is_none()), "no containers");
}
