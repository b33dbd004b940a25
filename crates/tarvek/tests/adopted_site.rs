//! Sites of which there are files only: what a check of what was adopted says before anybody has
//! written a line, and what following its remedies makes of it.

mod support;

use serde_json::Value;
use support::Folder;

/// A storage host and one for services, by their files. Nobody has looked at either.
fn files() -> Folder {
    let folder = Folder::new();
    folder
        .write("conf/granary/exports", "/loft/media 10.20.0.0/24(ro,all_squash)\n")
        .write(
            "conf/granary/zfs-list.txt",
            "NAME\tUSED\tAVAIL\tREFER\tMOUNTPOINT\nloft\t9.1T\t4.2T\t96K\t/loft\n\
             loft/media\t8.2T\t4.2T\t8.2T\t/loft/media\n\
             loft/media/films\t8.2T\t4.2T\t8.2T\t/loft/media/films\n",
        )
        .write("conf/granary/passwd", "root:x:0:0::/root:/bin/sh\nmira:x:1101:1101::/:/bin/sh\n")
        .write("conf/millrace/fstab", "granary:/loft/media /mnt/media nfs ro,nofail 0 0\n")
        .write(
            "conf/millrace/compose.yaml",
            "services:\n  lantern:\n    image: hollow/lantern:1\n    user: \"900:900\"\n    \
             volumes:\n      - /mnt/media:/media:ro\n      - /opt/../opt/lantern:/config\n",
        );
    folder
}

fn adopt(folder: &Folder) {
    let answer = folder.run("adopt conf/granary conf/millrace -o tarvek.toml");
    assert_eq!(answer.code, 0, "{}", answer.stderr);
}

/// The findings of a rule.
fn of_rule(folder: &Folder, rule: &str) -> Vec<Value> {
    let check = folder.json("check");
    let findings = check["findings"].as_array().unwrap();
    findings.iter().filter(|finding| finding["rule"] == rule).cloned().collect()
}

#[test]
fn what_is_mapped_is_judged_before_a_library_is_chosen() {
    let folder = files();
    // A dataset of another name: nothing speaks of a library there.
    folder.edit("conf/granary/zfs-list.txt", "loft/media/films", "loft/media/store");
    adopt(&folder);
    for (rule, message) in [
        ("share/child-dataset-hidden", "leads into the dataset at /loft/media/store"),
        ("layout/no-library", "no library and no intake is declared"),
        ("identity/squashed", "arrives on granary as 65534:65534"),
        ("mount/service-before-mount", "would see the folder beneath as /media"),
    ] {
        let found = of_rule(&folder, rule);
        let told = found.iter().filter_map(|finding| finding["message"].as_str());
        assert!(told.clone().any(|told| told.contains(message)), "{rule}: {found:#?}");
    }
    // With its own number on the way, it is nobody on granary.
    folder.edit("conf/granary/exports", ",all_squash", "");
    std::fs::remove_file(folder.path("tarvek.toml")).unwrap();
    adopt(&folder);
    let unknown = of_rule(&folder, "identity/unknown-account");
    assert!(
        unknown[0]["message"].as_str().unwrap().contains("arrives on granary as uid 900"),
        "{unknown:#?}"
    );
    assert!(of_rule(&folder, "identity/squashed").is_empty());
}

#[test]
fn what_an_engine_makes_of_a_path_is_a_note_and_can_be_written_so() {
    let folder = files();
    adopt(&folder);
    let found = of_rule(&folder, "path/not-absolute");
    assert_eq!((found.len(), found[0]["severity"].as_str()), (1, Some("note")), "{found:#?}");
    let applied = folder.run("check --apply --only path/not-absolute --yes");
    assert!(folder.read("tarvek.toml").contains("from = \"/opt/lantern\""), "{}", applied.stdout);
    assert!(of_rule(&folder, "path/not-absolute").is_empty());
}

#[test]
fn a_server_by_another_name_is_asked_about_and_known_once_that_is_said() {
    let folder = files();
    folder.edit("conf/millrace/fstab", "granary:", "10.20.0.2:");
    adopt(&folder);
    folder.edit(
        "tarvek.toml",
        "role = \"serve\"",
        "role = \"serve\"\nlibraries = [{ name = \"Films\", kind = \"films\", roots = \
         [\"/media/films\"] }]",
    );
    let found = of_rule(&folder, "mount/unknown-server");
    let [found] = found.as_slice() else { panic!("{found:#?}") };
    assert_eq!(
        (&found["severity"], &found["affects"][0]),
        (&"blocker".into(), &"library:Films".into())
    );
    let step = &found["steps"][0];
    let added = (&step["add"], &step["value"]);
    assert_eq!(added, (&"host.granary.addresses".into(), &"10.20.0.2".into()), "{step}");
    let applied = folder.run("check --apply --only mount/unknown-server --yes");
    let written = folder.read("tarvek.toml");
    assert!(written.contains("addresses = [\"10.20.0.2\"]"), "{}", applied.stdout);
    assert!(of_rule(&folder, "mount/unknown-server").is_empty());
    // Beyond it, what was hidden so far is told.
    assert_eq!(of_rule(&folder, "share/child-dataset-hidden").len(), 1);
}

#[test]
fn a_unit_that_requires_its_mounts_starts_after_them() {
    let folder = files();
    std::fs::remove_file(folder.path("conf/millrace/compose.yaml")).unwrap();
    let unit = |requires: &str| {
        format!(
            "[Unit]\n{requires}[Container]\nImage=hollow/lantern:1\nUser=900\n\
             Volume=/mnt/media:/media:ro\n"
        )
    };
    let late = |text: String| {
        folder.write("conf/millrace/lantern.container", text);
        _ = std::fs::remove_file(folder.path("tarvek.toml"));
        adopt(&folder);
        of_rule(&folder, "mount/service-before-mount").len()
    };
    assert_eq!(late(unit("")), 1);
    assert_eq!(late(unit("RequiresMountsFor=/mnt/media\n")), 0);
    assert!(folder.read("tarvek.toml").contains("waits_for = [\"/mnt/media\"]"));
    assert_eq!(late(unit("RequiresMountsFor=/srv\n")), 1);
}

/// What the engine makes above a mapping is its own: nothing of the host is said of it.
#[test]
fn a_folder_above_what_is_mapped_is_the_services_own() {
    let folder = Folder::new();
    folder.write("m/Ebb (1999)/Ebb (1999).mkv", "x").write(
        "tarvek.toml",
        format!(
            "tarvek = 1\nsite = \"t\"\n[host.box]\nrole = \"apps\"\n[service.lantern]\nhost = \
             \"box\"\nrole = \"serve\"\nruns_as = \"0:0\"\nmap = [{{ from = \"{}\", to = \
             \"/data/media\", access = \"ro\" }}]\nlibraries = [{{ name = \"Films\", kind = \
             \"films\", roots = [\"/data\"] }}]\n",
            folder.path("m").display()
        ),
    );
    let traced = folder.run("trace /data --from service:lantern --this-host box");
    assert!(
        traced.stdout.starts_with("✓ /data is the service's own: the engine makes it"),
        "{}",
        traced.stdout
    );
    let check = folder.json("check --this-host box");
    assert_eq!(check["board"][0]["stages"]["titles"], 1, "{check:#}");
    let of_host = check["findings"].as_array().unwrap().iter();
    let said = of_host.filter(|finding| finding["rule"] == "layout/on-system-disk").count();
    assert_eq!(said, 0, "{check:#}");
}
