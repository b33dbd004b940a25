//! Rules on the demo site: on the healthy one none fires, and what a file says reaches its rule.

mod support;

use support::Folder;

fn fired(folder: &Folder) -> Vec<String> {
    let check = folder.json("check");
    let findings = check["findings"].as_array().unwrap();
    findings.iter().map(|finding| finding["rule"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn nothing_fires_on_a_healthy_site() {
    let folder = Folder::healthy();
    assert_eq!(fired(&folder), [""; 0]);
    let answer = folder.run("check --fail-on note");
    assert_eq!(answer.code, 0);
    assert!(answer.stdout.starts_with(
        "Kestrel Hollow: every library is ready (6), and every intake (3); nothing found"
    ));
}

/// Rule, file, from, to, and words of the remedy or message: one for each kind of fact that a file
/// brings. What else makes a rule fire is tested beside the rule.
const CASES: &[(&str, &str, &str, &str, &str)] = &[
    (
        "path/missing",
        "tarvek.toml",
        "[\"/media/films\"]",
        "[\"/media/flims\"]",
        "change root /media/flims of lantern's library Films to /media/films",
    ),
    (
        "mount/not-mounted",
        "millrace.listing",
        "|72 22 0:62 / /mnt/granary/archive",
        "|72 22 0:62 / /mnt/elsewhere",
        "mount -t nfs -o ro granary.lan:/loft/archive",
    ),
    (
        "share/child-dataset-hidden",
        "granary.listing",
        "|63 61 0:53",
        "|64 62 0:54 / /loft/media/films rw - zfs loft/media/films rw\n|63 61 0:53",
        "crossmnt = true",
    ),
    (
        "access/root-unreadable",
        "granary.listing",
        "|d 2775 1101 2100 4 512 37 2 ",
        "|d 2770 1101 2100 4 512 37 2 ",
        "setfacl -R -m u:lantern:rX,d:u:lantern:rX /loft/media/films",
    ),
    (
        "access/per-user-grants",
        "granary.listing",
        "end tree",
        "end tree\nsection acl\n|# file: /loft/media/films\n|# owner: 1101\n|# group: 2100\n\
         |user::rwx\n|user:1101:rwx\n|user:1102:rwx\n\
         |user:1103:rwx\n|group::rwx\n|mask::rwx\n|other::r-x\n|\nend acl",
        "grant rwx to mira, oskar, 1103 one by one",
    ),
    (
        "layout/unknown-reference",
        "tarvek.toml",
        "write = [\"@keepers\"]",
        "write = [\"@keeper\"]",
        "did you mean keepers?",
    ),
    (
        "layout/differs-from-host",
        "granary.listing",
        "|lantern:x:840:840",
        "|lantern:x:1003:840",
        "the uid of lantern: the layout says 840, granary has 1003",
    ),
    (
        "layout/differs-from-host",
        "granary.listing",
        "section roots",
        "section smb\n|[media]\n|\tpath = /loft/old\nend smb\nsection roots",
        "the folder of the share media: the layout says /loft/media, granary has /loft/old",
    ),
    (
        "dataset/access-times",
        "granary.listing",
        "section roots",
        "section zfs\n|loft/media\tatime\ton\nend zfs\nsection roots",
        "zfs set atime=off loft/media",
    ),
    (
        "dataset/nearly-full",
        "granary.listing",
        "section roots",
        "section capacity\n|Filesystem 1024-blocks Used Available Capacity Mounted on\n|loft/media \
         100000 91000 9000 91% /loft/media\nend capacity\nsection roots",
        "is full to 91 %: 8.8 MiB are left",
    ),
    (
        "path/written-as-host-path",
        "tarvek.toml",
        "[\"/media/films\"]",
        "[\"/loft/media/films\"]",
        "change root /loft/media/films of lantern's library Films to /media/films",
    ),
    (
        "mount/contradiction",
        "millrace.listing",
        "|granary.lan:/loft/media /mnt/granary/media nfs ro,",
        "|granary.lan:/loft/media /mnt/granary/media nfs rw,",
        "/mnt/granary/media is read-only, and fstab does not say so",
    ),
    (
        "mount/unknown-server",
        "tarvek.toml",
        "from = \"granary:media\"\nprotocol = \"nfs\"",
        "from = \"10.20.0.99:/loft/media\"\nprotocol = \"nfs\"",
        "add \"10.20.0.99\" to addresses of host granary",
    ),
    (
        "identity/not-as-declared",
        "tarvek.toml",
        "groups = { keepers = 2100, stagehands = 2200 }",
        "groups = { keepers = 2100, stagehands = 2200, viewers = 2300 }",
        "groupadd -g 2300 viewers",
    ),
    (
        "survey/not-seen",
        "granary.listing",
        "end roots",
        "end roots\nsection gaps\n|/loft/media/films/1742 (2019)\tpermission denied\nend gaps",
        "clear what is said there, and look at granary again",
    ),
    (
        "survey/not-seen",
        "granary.listing",
        "|deep /loft",
        "|names /loft",
        "7 folders below /media/films could not be looked into",
    ),
];

#[test]
fn what_a_file_says_reaches_its_rule() {
    for (rule, file, from, to, words) in CASES {
        let folder = Folder::healthy();
        folder.edit(file, from, to);
        let check = folder.json("check");
        let findings = check["findings"].as_array().unwrap();
        let found = findings.iter().find(|finding| {
            let text =
                format!("{} {}", finding["message"], finding["remedy"]).replace("\\\"", "\"");
            finding["rule"] == *rule && text.contains(words)
        });
        assert!(
            found.is_some(),
            "{rule} does not fire on {to:?}, or not with {words:?}: {findings:#?}"
        );
    }
}

#[test]
fn a_host_that_nobody_looked_at_is_said_to_be_so() {
    let folder = Folder::healthy();
    std::fs::remove_file(folder.path("granary.listing")).unwrap();
    // What millrace sees beneath the archive's mount point would count as the archive itself.
    folder.edit("millrace.listing", "|names /mnt/granary/archive\n", "");
    assert_eq!(fired(&folder), ["survey/none"]);
    let check = folder.json("check");
    assert_eq!(check["board"][0]["stages"]["exists"], "unseen");
    assert_eq!(check["board"][0]["ready"], false);
    assert_eq!(check["findings"][0]["affects"].as_array().unwrap().len(), 9);
}

#[test]
fn every_rule_is_explained() {
    let folder = Folder::new();
    let all = folder.run("explain");
    let rules: Vec<&str> = all
        .stdout
        .lines()
        .filter_map(|line| line.split_whitespace().next())
        .filter(|word| word.contains('/'))
        .collect();
    assert!(rules.len() >= 14);
    for rule in rules {
        let text = folder.run(&format!("explain {rule}")).stdout;
        for part in ["What it means", "Why it hurts", "What to do", "Example"] {
            assert!(text.contains(part), "{rule}: {part}");
        }
    }
}

#[test]
fn datasets_that_are_as_they_should_be_are_left_alone() {
    let folder = Folder::healthy();
    folder.edit(
        "granary.listing",
        "section roots",
        "section zfs\n|loft/media\tatime\toff\n|loft/media\trecordsize\t1M\n\
         |loft/media\tacltype\tposixacl\n\
         |loft/media\taclmode\tdiscard\n|loft/media\tcasesensitivity\tsensitive\n\
         |loft/other\tatime\ton\nend zfs\n\
         section capacity\n|Filesystem 1024-blocks Used Available Capacity Mounted on\n|loft/media \
         100000 84000 16000 84% /loft/media\n\
         |x 100 99 1 99% /loft/med\nend capacity\nsection roots",
    );
    assert_eq!(fired(&folder), [""; 0]);
    folder.edit("granary.listing", "84000 16000 84%", "98000 2000 98%");
    let check = folder.json("check");
    let finding = &check["findings"][0];
    assert_eq!(
        (finding["rule"].as_str(), finding["severity"].as_str()),
        (Some("dataset/nearly-full"), Some("blocker"))
    );
}
