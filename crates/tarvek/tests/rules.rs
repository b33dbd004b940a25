//! Each rule: one change to a healthy site that makes it fire. On the healthy site none does.

mod support;

use support::Folder;

/// The demo site with all its faults mended.
fn healthy() -> Folder {
    let folder = Folder::demo();
    folder
        .edit("tarvek.toml", "/media/Music", "/media/music")
        .edit("tarvek.toml", "roots = [\"/books\"]", "roots = [\"/media/books\"]")
        .edit("granary.listing", "|d 0750 1101 2100", "|d 0755 1101 2100")
        .edit("granary.listing", "|f 0640 1101 2100", "|f 0644 1101 2100")
        .edit(
            "millrace.listing",
            "end mountinfo",
            "|71 22 0:61 / /mnt/granary/archive ro - nfs4 granary.lan:/silo/archive ro\nend mountinfo",
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
        "mkdir /silo/media/workprints",
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
        "mount -t nfs -o ro granary.lan:/silo/archive",
    ),
    (
        "share/child-dataset-hidden",
        "granary.listing",
        "|63 61 0:53",
        "|64 62 0:54 / /silo/media/films rw - zfs silo/media/films rw\n|63 61 0:53",
        "add crossmnt",
    ),
    (
        "access/root-unreadable",
        "granary.listing",
        "|d 2775 1101 2100 4 512 37 2 ",
        "|d 2770 1101 2100 4 512 37 2 ",
        "setfacl -R -m u:lantern:rX,d:u:lantern:rX /silo/media/films",
    ),
    (
        "access/root-unreadable",
        "granary.listing",
        "|d 2775 0 2100 8 512 36 8 ",
        "|d 2770 0 2100 8 512 36 8 ",
        "setfacl -m u:lantern:x /silo/media",
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
        "[service.drover]\nhost = \"granary\"\nrole = \"fetch\"\nruns_as = \"973:2200\"",
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
        "survey/not-seen",
        "granary.listing",
        "end roots",
        "end roots\nsection gaps\n|/silo/media/films/1742 (2019)\tpermission denied\nend gaps",
        "look at granary again as root",
    ),
    (
        "survey/not-seen",
        "granary.listing",
        "|deep /silo",
        "|names /silo",
        "7 folders below /media/films could not be looked into",
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
const OF_SURVEYS: &[&str] = &["survey/none", "survey/too-old", "survey/partial", "survey/no-acls"];

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
        .map(|n| format!("|f 0644 0 0 1 512 {} 1 1 - /silo/media/films/still {n}.jpg\n", 1000 + n))
        .collect();
    listing = listing.replace(
        "end tree",
        &(many + "|f 0600 0 0 1 512 999 1 1 - /silo/media/films/lost.mkv\nend tree"),
    );
    folder.write("granary.listing", listing);
    let finding = &folder.json("check")["findings"][0];
    assert_eq!(
        (finding["rule"].as_str(), finding["severity"].as_str()),
        (Some("access/entries-unreadable"), Some("risk"))
    );
}
