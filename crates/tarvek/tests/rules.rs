//! Each rule: one change to a healthy site that makes it fire. On the healthy site none does.

mod support;

use support::Folder;

/// The demo site with all its faults mended.
fn healthy() -> Folder {
    let folder = Folder::demo();
    folder
        .edit("tarvek.toml", "/media/Music", "/media/music")
        .edit("tarvek.toml", "roots = [\"/books\"]", "roots = [\"/media/books\"]")
        .edit("tarvek.toml", "reels\"], original = true", "reels\"], original = true, backup = \"rill\"")
        .edit(
            "tarvek.toml",
            "runs_as = \"842:2200\"\n",
            "runs_as = \"842:2200\"\ngroups = [\"keepers\"]\n",
        )
        .edit("granary.listing", "|d 0750 1101 2100", "|d 0755 1101 2100")
        .edit("granary.listing", "|f 0640 1101 2100", "|f 0644 1101 2100")
        .edit(
            "millrace.listing",
            "end mountinfo",
            "|71 22 0:61 / /mnt/granary/archive ro - nfs4 granary.lan:/loft/archive ro\nend mountinfo",
        );
    folder
}

fn fired(folder: &Folder) -> Vec<String> {
    let check = folder.json("check");
    let findings = check["findings"].as_array().unwrap();
    findings.iter().map(|finding| finding["rule"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn nothing_fires_on_a_healthy_site() {
    let folder = healthy();
    assert_eq!(fired(&folder), [""; 0]);
    let answer = folder.run("check --fail-on note");
    assert_eq!(answer.code, 0);
    assert!(answer.stdout.starts_with("Kestrel Hollow: every library is ready (6); nothing found"));
}

/// Rule, file, from, to, and words of the remedy or message.
const CASES: &[(&str, &str, &str, &str, &str)] = &[
    (
        "path/missing",
        "tarvek.toml",
        "[\"/media/films\"]",
        "[\"/media/flims\"]",
        "write the root as /media/films",
    ),
    (
        "path/missing",
        "tarvek.toml",
        "[\"/media/films\"]",
        "[\"/media/workprints\"]",
        "mkdir /loft/media/workprints",
    ),
    (
        "path/missing",
        "tarvek.toml",
        "from = \"/mnt/granary/media\"",
        "from = \"/mnt/granary/meda\"",
        "write /mnt/granary/media in the mapping",
    ),
    (
        "path/case",
        "tarvek.toml",
        "[\"/media/films\"]",
        "[\"/media/FILMS\"]",
        "write the root as /media/films",
    ),
    (
        "path/not-a-folder",
        "tarvek.toml",
        "[\"/archive/reels\"]",
        "[\"/archive/reels/Harvest supper 1961.mov\"]",
        "for example /archive/reels",
    ),
    (
        "path/not-a-folder",
        "tarvek.toml",
        "[\"/archive/reels\"]",
        "[\"/archive/reels/Harvest supper 1961.mov/x\"]",
        "is a file",
    ),
    (
        "path/uncovered",
        "tarvek.toml",
        "[\"/media/films\"]",
        "[\"/mnt/granary/media/films\"]",
        "write the root as lantern sees it: /media/films",
    ),
    (
        "path/uncovered",
        "tarvek.toml",
        "[\"/media/films\"]",
        "[\"/mediax/films\"]",
        "did you mean /media?",
    ),
    (
        "path/not-absolute",
        "tarvek.toml",
        "[\"/media/films\"]",
        "[\"media/films\"]",
        "write it as /media/films",
    ),
    (
        "path/not-absolute",
        "tarvek.toml",
        "[\"/media/films\"]",
        "[\"/media/../films\"]",
        "write it as /films",
    ),
    (
        "path/not-absolute",
        "tarvek.toml",
        "from = \"/srv/lantern\"",
        "from = \"srv/lantern\"",
        "write it as /srv/lantern",
    ),
    (
        "path/shadowed",
        "tarvek.toml",
        "{ from = \"/srv/books\", to = \"/books\"",
        "{ from = \"/srv/books\", to = \"/media/films\"",
        "hides /mnt/granary/media/films",
    ),
    (
        "mount/not-mounted",
        "millrace.listing",
        "|70 22 0:60 / /mnt/granary/media",
        "|70 22 0:60 / /mnt/elsewhere",
        "mount /mnt/granary/media",
    ),
    (
        "mount/not-mounted",
        "millrace.listing",
        "|71 22 0:61 / /mnt/granary/archive",
        "|71 22 0:61 / /mnt/elsewhere",
        "mount -t nfs -o ro granary.lan:/loft/archive",
    ),
    (
        "share/child-dataset-hidden",
        "granary.listing",
        "|63 61 0:53",
        "|64 62 0:54 / /loft/media/films rw - zfs loft/media/films rw\n|63 61 0:53",
        "add crossmnt",
    ),
    (
        "access/root-unreadable",
        "granary.listing",
        "|d 2775 1101 2100 4 512 37 2 ",
        "|d 2770 1101 2100 4 512 37 2 ",
        "setfacl -R -m u:lantern:rX,d:u:lantern:rX /loft/media/films",
    ),
    (
        "access/root-unreadable",
        "granary.listing",
        "|d 2775 0 2100 8 512 36 8 ",
        "|d 2770 0 2100 8 512 36 8 ",
        "setfacl -m u:lantern:x /loft/media",
    ),
    (
        "access/entries-unreadable",
        "granary.listing",
        "|f 0664 1101 2100",
        "|f 0660 1101 2100",
        "other::---",
    ),
    (
        "access/more-than-needed",
        "tarvek.toml",
        "[service.drover]\nhost = \"granary\"\nrole = \"fetch\"\nruns_as = \"841:2200\"",
        "[service.drover]\nhost = \"granary\"\nrole = \"serve\"\nruns_as = \"1101:2100\"\nlibraries = [{ name = \"X\", kind = \"films\", roots = [\"/data/films\"] }]",
        "add access = \"ro\" to the mapping in line",
    ),
    (
        "library/nothing-found",
        "tarvek.toml",
        "[\"/media/books\"]",
        "[\"/books\"]",
        "did you mean /media/books?",
    ),
    ("library/nothing-found", "tarvek.toml", "[\"/media/films\"]", "[\"/media/intake\"]", ""),
    (
        "layout/unknown-reference",
        "tarvek.toml",
        "write = [\"@keepers\"]",
        "write = [\"@keeper\"]",
        "did you mean keepers?",
    ),
    (
        "layout/unknown-reference",
        "tarvek.toml",
        "smb = { read = [\"lantern\"]",
        "smb = { read = [\"miro\"]",
        "did you mean mira?",
    ),
    (
        "layout/unknown-reference",
        "tarvek.toml",
        "runs_as = \"841:2200\"",
        "runs_as = \"841:2200\"\ngroups = [\"stagehand\"]",
        "did you mean stagehands?",
    ),
    (
        "layout/on-system-disk",
        "tarvek.toml",
        "[\"/media/books\"]",
        "[\"/books\"]",
        "/srv/books lies on the system disk of millrace",
    ),
    (
        "layout/config-in-media",
        "tarvek.toml",
        "config = \"/srv/lantern\"",
        "config = \"/mnt/granary/media/.lantern\"",
        "lies in the share media: /loft/media/.lantern",
    ),
    (
        "layout/no-backup",
        "tarvek.toml",
        "config = \"/srv/lantern\"\nbackup = \"rill.lan, every night\"",
        "config = \"/srv/lantern\"",
        "lantern's configuration",
    ),
    (
        "layout/no-backup",
        "tarvek.toml",
        ", backup = \"rill\"",
        "",
        "Folk archive can't be replaced",
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
        "tarvek.toml",
        "at = \"/loft/archive\", filesystem = \"zfs\"",
        "at = \"/loft/archive\", filesystem = \"btrfs\"",
        "the layout says btrfs, granary has zfs",
    ),
    (
        "layout/differs-from-host",
        "tarvek.toml",
        "options = \"ro,nofail,_netdev\"",
        "options = \"nofail,_netdev\"",
        "the mode of /mnt/granary/media: the layout says rw, millrace has ro",
    ),
    (
        "layout/differs-from-host",
        "millrace.listing",
        "nfs4 granary.lan:/loft/archive",
        "nfs4 granary.lan:/loft/attic",
        "the source of /mnt/granary/archive: the layout says granary:/loft/archive",
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
        "dataset/record-size",
        "granary.listing",
        "section roots",
        "section zfs\n|loft/media\trecordsize\t128K\nend zfs\nsection roots",
        "zfs set recordsize=1M loft/media",
    ),
    (
        "dataset/record-size",
        "tarvek.toml",
        "at = \"/loft/media\", filesystem = \"zfs\"",
        "at = \"/loft/media\", filesystem = \"zfs\", properties = { recordsize = \"16K\" }",
        "recordsize=16K",
    ),
    (
        "dataset/acl-lost-on-chmod",
        "granary.listing",
        "section roots",
        "section zfs\n|loft/media\tacltype\tnfsv4\n|loft/media\taclmode\tdiscard\nend zfs\nsection roots",
        "zfs set aclmode=passthrough loft/media",
    ),
    (
        "dataset/case-insensitive-mix",
        "granary.listing",
        "section roots",
        "section zfs\n|loft/media\tcasesensitivity\tinsensitive\nend zfs\nsection roots",
        "lantern on Linux uses it",
    ),
    (
        "dataset/nearly-full",
        "granary.listing",
        "section roots",
        "section capacity\n|Filesystem 1024-blocks Used Available Capacity Mounted on\n|loft/media 100000 91000 9000 91% /loft/media\nend capacity\nsection roots",
        "is full to 91 %: 8.8 MiB are left",
    ),
    (
        "survey/not-seen",
        "granary.listing",
        "end roots",
        "end roots\nsection gaps\n|/loft/media/films/1742 (2019)\tpermission denied\nend gaps",
        "look at granary again as root",
    ),
    (
        "survey/not-seen",
        "granary.listing",
        "|deep /loft",
        "|names /loft",
        "7 folders below /media/films could not be looked into",
    ),
    (
        "identity/unknown-account",
        "tarvek.toml",
        "runs_as = \"840:840\"",
        "runs_as = \"975:975\"",
        "on granary: groupadd -g 975 lantern; useradd -r -u 975",
    ),
    (
        "identity/number-mismatch",
        "tarvek.toml",
        "role = \"apps\"",
        "role = \"apps\"\ngroups = { keepers = 2105 }",
        "on millrace: groupmod -g 2100 keepers",
    ),
    (
        "identity/runs-as-root",
        "tarvek.toml",
        "runs_as = \"841:2200\"",
        "runs_as = \"0:0\"",
        "drover runs as root on granary",
    ),
    (
        "identity/run-as-unset",
        "tarvek.toml",
        "runs_as = \"842:2200\"\n",
        "",
        "no account is set for joiner",
    ),
    (
        "identity/shifted",
        "tarvek.toml",
        "runs_as = \"840:840\"",
        "runs_as = \"840:840\"\nuserns = \"0:100000:500\"",
        "the user namespace of lantern has no id 840",
    ),
    (
        "identity/squashed",
        "tarvek.toml",
        "squash = \"root\"",
        "squash = \"all\"",
        "lantern is 840:840 on millrace and arrives on granary as 65534:65534: all_squash of the export",
    ),
    (
        "identity/shared-account",
        "tarvek.toml",
        "runs_as = \"842:2200\"",
        "runs_as = \"841:2200\"",
        "drover and joiner all run as uid 841 on granary",
    ),
    (
        "access/cannot-add",
        "tarvek.toml",
        "groups = [\"keepers\"]\n",
        "",
        "on granary: setfacl -m u:joiner:wx /loft/media/films",
    ),
    (
        "access/cannot-add",
        "tarvek.toml",
        "map = [{ from = \"/loft/media\", to = \"/data\" }]",
        "map = [{ from = \"/loft/media\", to = \"/data\", access = \"ro\" }]",
        "set access = \"rw\" for the mapping in line",
    ),
    (
        "access/cannot-remove",
        "granary.listing",
        "|d 2770 841 2200 4 512 90",
        "|d 3770 841 2200 4 512 90",
        "chmod -t /loft/media/intake/done/films",
    ),
    (
        "access/world-writable",
        "granary.listing",
        "|f 0664 1101 2100 84211",
        "|f 0666 1101 2100 84211",
        "anyone may write 1 entry on granary",
    ),
    (
        "access/not-inherited",
        "tarvek.toml",
        "runs_as = \"841:2200\"\numask = \"002\"",
        "runs_as = \"841:2200\"\numask = \"077\"",
        "a file that drover makes will be 0600 drover:stagehands and joiner",
    ),
    (
        "access/moved-stays-private",
        "tarvek.toml",
        "runs_as = \"841:2200\"\numask = \"002\"",
        "runs_as = \"841:2200\"\numask = \"007\"",
        "a file that drover makes will be 0660 drover:stagehands, linked or moved there, and lantern",
    ),
    (
        "access/moved-stays-private",
        "granary.listing",
        "end tree",
        "|f 0600 841 2200 4096 4096 990 1 1791705690 - /loft/media/intake/done/films/Low Water (2003).mkv\nend tree",
        "1 file in /data/intake/done/films, such as /loft/media/intake/done/films/Low Water (2003).mkv (0600 drover:stagehands)",
    ),
    (
        "access/not-as-declared",
        "tarvek.toml",
        "[intake.films]",
        "[[folder]]\nhost = \"granary\"\npath = \"/loft/media/films\"\nrights = { \"@stagehands\" = \"change\" }\n\n[intake.films]",
        "@stagehands has less than \"change\" on",
    ),
    (
        "access/not-as-declared",
        "tarvek.toml",
        "[intake.films]",
        "[[folder]]\nhost = \"granary\"\npath = \"/loft/media/books\"\nrights = { lantern = \"none\" }\n\n[intake.films]",
        "lantern has more than \"none\" on",
    ),
    (
        "access/per-user-grants",
        "granary.listing",
        "end tree",
        "end tree\nsection acl\n|# file: /loft/media/films\n|# owner: 1101\n|# group: 2100\n|user::rwx\n|user:1101:rwx\n|user:1102:rwx\n\
         |user:1103:rwx\n|group::rwx\n|mask::rwx\n|other::r-x\n|\nend acl",
        "grant rwx to mira, oskar, 1103 one by one",
    ),
    (
        "access/orphaned-owner",
        "granary.listing",
        "|f 0664 1101 2100 84211",
        "|f 0664 1109 2100 84211",
        "1 entry by 1109",
    ),
];

#[test]
fn each_rule_fires_on_its_fault() {
    for (rule, file, from, to, words) in CASES {
        let folder = healthy();
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
    let folder = healthy();
    std::fs::remove_file(folder.path("granary.listing")).unwrap();
    // What millrace sees beneath the archive's mount point would count as the archive itself.
    folder.edit("millrace.listing", "|names /mnt/granary/archive\n", "");
    assert_eq!(fired(&folder), ["survey/none"]);
    let check = folder.json("check");
    assert_eq!(check["board"][0]["stages"]["exists"], "unknown");
    assert_eq!(check["board"][0]["ready"], false);
    assert_eq!(check["findings"][0]["affects"].as_array().unwrap().len(), 6);
}

/// Those that a change of a text can't make fire have tests of their own, here and in survey.rs.
const OF_SURVEYS: &[&str] = &[
    "survey/none",
    "survey/too-old",
    "survey/partial",
    "survey/no-acls",
    "identity/too-many-groups",
    "layout/scattered-kinds",
    "layout/outside-share",
];

#[test]
fn every_rule_is_tested_and_explained() {
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
        let tested = OF_SURVEYS.contains(&rule) || CASES.iter().any(|case| case.0 == rule);
        assert!(tested, "{rule} has no test that fires it");
        let text = folder.run(&format!("explain {rule}")).stdout;
        for part in ["What it means", "Why it hurts", "What to do", "Example"] {
            assert!(text.contains(part), "{rule}: {part}");
        }
    }
}

#[test]
fn less_than_one_in_a_hundred_is_a_risk() {
    let folder = healthy();
    let mut listing = folder.read("granary.listing");
    let many: String = (0..150)
        .map(|n| format!("|f 0644 0 0 1 512 {} 1 1 - /loft/media/films/still {n}.jpg\n", 1000 + n))
        .collect();
    listing = listing.replace(
        "end tree",
        &(many + "|f 0600 0 0 1 512 999 1 1 - /loft/media/films/lost.mkv\nend tree"),
    );
    folder.write("granary.listing", listing);
    let finding = &folder.json("check")["findings"][0];
    assert_eq!(
        (finding["rule"].as_str(), finding["severity"].as_str()),
        (Some("access/entries-unreadable"), Some("risk"))
    );
}

/// A site of one host with two libraries, which nobody looked at.
fn small(films: &str, music: &str, share: &str) -> Vec<String> {
    let folder = Folder::new();
    folder.write(
        "tarvek.toml",
        format!(
            "tarvek = 1\nsite = 'x'\n[host.box]\nrole = ['storage', 'apps']\n[share.s]\nhost = 'box'\npath = '{share}'\n\
             [service.s]\nhost = 'box'\nrole = 'serve'\nruns_as = '840:840'\n\
             libraries = [{{ name = 'F', kind = 'films', roots = ['{films}'] }}, {{ name = 'M', kind = 'music', roots = ['{music}'] }}]\n"
        ),
    );
    fired(&folder).into_iter().filter(|rule| rule.starts_with("layout/")).collect()
}

#[test]
fn the_shape_of_a_layout_is_judged_by_itself() {
    let none: [&str; 0] = [];
    assert_eq!(small("/loft/media/films", "/loft/media/music", "/loft/media"), none);
    assert_eq!(small("/loft/media/films", "/loft/media/sound/music", "/loft/media"), none);
    assert_eq!(small("/loft/films/all", "/tank/music/all", "/"), ["layout/scattered-kinds"]);
    assert_eq!(small("/loft/media/films", "/loft/music", "/loft/media"), ["layout/outside-share"]);
    assert_eq!(small("/loft/mediax/films", "/loft/mediax/music", "/loft/media").len(), 2);
}

#[test]
fn datasets_that_are_as_they_should_be_are_left_alone() {
    let folder = healthy();
    folder.edit(
        "granary.listing",
        "section roots",
        "section zfs\n|loft/media\tatime\toff\n|loft/media\trecordsize\t1M\n|loft/media\tacltype\tposixacl\n\
         |loft/media\taclmode\tdiscard\n|loft/media\tcasesensitivity\tsensitive\n|loft/other\tatime\ton\nend zfs\n\
         section capacity\n|Filesystem 1024-blocks Used Available Capacity Mounted on\n|loft/media 100000 84000 16000 84% /loft/media\n\
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

#[test]
fn a_shift_and_lost_groups_are_told_from_a_plain_refusal() {
    let folder = healthy();
    // Only the account's own number lets it in.
    folder.edit("granary.listing", "|d 0755 1101 2100 4 512 75", "|d 0700 840 840 4 512 75");
    assert_eq!(fired(&folder), [""; 0]);
    folder.edit("tarvek.toml", "\"840:840\"", "\"840:840\"\nuserns = \"0:100000:65536\"");
    let check = folder.json("check");
    let findings = check["findings"].as_array().unwrap();
    let of = |rule: &str| findings.iter().find(|finding| finding["rule"] == rule);
    let shifted = of("identity/shifted").unwrap();
    assert!(
        shifted["message"]
            .as_str()
            .unwrap()
            .contains("is 840:840 inside its namespace and 100840:100840")
    );
    assert_eq!(of("access/root-unreadable").unwrap()["because"], "identity/shifted");
    let trace = folder.json("trace /media/photos --from service:lantern");
    assert_eq!(trace["hops"][0]["identity_changed_by"], "the user namespace of lantern");
    // Mounted with the namespace's ids, the files are the account's own again – but not on a mount over NFS.
    let many: Vec<String> = (3000..3016).chain([2100]).map(|gid| format!("\"{gid}\"")).collect();
    let groups = format!("\"840:840\"\ngroups = [{}]", many.join(", "));
    let folder = healthy();
    folder.edit("granary.listing", "|d 0755 1101 2100 4 512 75", "|d 0750 1101 2100 4 512 75");
    folder.edit("tarvek.toml", "\"840:840\"", &groups);
    assert_eq!(fired(&folder), [""; 0], "2100 is among the first 16");
    let many: Vec<String> = (1900..1916).chain([2100]).map(|gid| format!("\"{gid}\"")).collect();
    let more = format!("\"840:840\"\ngroups = [{}]", many.join(", "));
    folder.edit("tarvek.toml", &groups, &more);
    assert!(fired(&folder).contains(&"identity/too-many-groups".to_owned()));
    folder.edit("tarvek.toml", "[host.granary]\n", "[host.granary]\nmanage_gids = true\n");
    assert!(!fired(&folder).contains(&"identity/too-many-groups".to_owned()));
}
