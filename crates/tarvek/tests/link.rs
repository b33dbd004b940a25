//! Links and renames, asked of this machine and of the demo site: the built program on files in
//! temporary folders.

mod support;

use std::fs;
use std::os::unix::fs::MetadataExt;

use serde_json::{Value, json};
use support::Folder;

/// What is possible, and why: `link+ok rename-different-mount/EXDEV`.
fn told(answer: &Value) -> String {
    let one = |key: &str, deed: &str| {
        let verdict = &answer[key];
        let sign = match verdict["possible"].as_bool() {
            Some(true) => '+',
            Some(false) => '-',
            None => '?',
        };
        let errno = verdict["errno"].as_str().map(|errno| format!("/{errno}")).unwrap_or_default();
        format!("{deed}{sign}{}{errno}", verdict["reason"].as_str().unwrap())
    };
    format!("{} {}", one("hardlink", "link"), one("rename", "rename"))
}

/// A folder with a film that was fetched, and a library.
fn shelf() -> Folder {
    let folder = Folder::new();
    folder
        .write("done/film.mkv", "film")
        .write("done/taken.mkv", "one")
        .write("films/taken.mkv", "other");
    fs::create_dir(folder.path("done/open")).unwrap();
    folder
}

#[test]
fn on_this_machine_without_a_layout() {
    let folder = shelf();
    for (arguments, code, expected) in [
        ("done/film.mkv films", 0, "link+ok rename+ok"),
        ("done/film.mkv films/new.mkv", 0, "link+ok rename+ok"),
        ("done/film.mkv films/ --need link,rename", 0, "link+ok rename+ok"),
        ("done/taken.mkv films", 1, "link-target-exists/EEXIST rename+ok"),
        ("done/taken.mkv films --need rename", 0, "link-target-exists/EEXIST rename+ok"),
        (
            "done/film.mkv nowhere/film.mkv",
            1,
            "link-target-unwritable/ENOENT rename-target-unwritable/ENOENT",
        ),
        (
            "done/film.mkv films/taken.mkv/x",
            1,
            "link-not-a-folder/ENOTDIR rename-not-a-folder/ENOTDIR",
        ),
        ("done/open films", 1, "link-is-folder/EPERM rename+ok"),
        ("done films/..", 1, "link-target-exists/EEXIST rename+ok"),
        ("done done/open", 1, "link-is-folder/EPERM rename-is-folder/EINVAL"),
        ("done/. films/new", 1, "link-is-folder/EPERM rename-busy/EBUSY"),
        (
            "done/film.mkv /dev",
            1,
            "link-different-filesystem/EXDEV rename-different-filesystem/EXDEV",
        ),
    ] {
        let answer = folder.run(&format!("link {arguments} --format json"));
        let document: Value = serde_json::from_str(&answer.stdout)
            .unwrap_or_else(|_| panic!("{arguments}: {}", answer.stderr));
        assert_eq!(
            (told(&document).as_str(), answer.code),
            (expected, code),
            "{arguments}: {document:#}"
        );
    }
    let missing = folder.run("link done/none.mkv films");
    assert_eq!((missing.code, missing.stdout.as_str()), (2, ""));
    assert!(missing.stderr.contains("done/none.mkv does not exist: "), "{}", missing.stderr);
}

#[test]
fn the_document_has_the_fields_of_the_contract() {
    let folder = shelf();
    let answer = folder.json("link done/film.mkv films");
    let film = folder.path("done/film.mkv");
    assert_eq!(answer["schema"], "tarvek/link/1");
    assert_eq!(answer["from"], film.to_str().unwrap());
    assert_eq!(answer["to"], folder.path("films").to_str().unwrap());
    let detail = "one mount and one filesystem, and whoever does it may";
    let fine = json!({"possible": true, "evidence": "observed", "reason": "ok", "errno": null, "detail": detail});
    assert_eq!((&answer["hardlink"], &answer["rename"]), (&fine, &fine));
    assert_eq!(fs::metadata(&film).unwrap().nlink(), 1, "nothing was done");
}

#[test]
fn a_folder_is_judged_for_what_it_holds() {
    let folder = shelf();
    fs::write(folder.path("done/open/extra.mkv"), "x").unwrap();
    let answer = folder.run("link done films --format json");
    let document: Value = serde_json::from_str(&answer.stdout).unwrap();
    let holds = &document["holds"];
    assert_eq!(
        (&holds["files"], &holds["possible"], &holds["unseen"]),
        (&json!(3), &json!(2), &json!(0))
    );
    let cause = &holds["causes"][0];
    assert_eq!(
        (&cause["reason"], &cause["errno"], &cause["files"]),
        (&json!("target-exists"), &json!("EEXIST"), &json!(1))
    );
    assert_eq!(cause["examples"][0]["path"], folder.path("done/taken.mkv").to_str().unwrap());
    assert_eq!(answer.code, 1, "the folder itself takes no further name");
}

#[test]
fn a_proof_is_made_and_leaves_nothing() {
    let folder = shelf();
    let before = |name: &str| {
        let meta = fs::metadata(folder.path(name)).unwrap();
        (
            meta.mtime(),
            meta.mtime_nsec(),
            meta.nlink(),
            fs::read_dir(folder.path(name)).unwrap().count(),
        )
    };
    let kept = (before("done"), before("films"));
    let answer = folder.json("link done/film.mkv films --prove");
    for deed in ["hardlink", "rename"] {
        assert_eq!(
            (&answer[deed]["possible"], &answer[deed]["evidence"]),
            (&json!(true), &json!("proven")),
            "{answer:#}"
        );
    }
    assert_eq!((before("done"), before("films")), kept);
    // What can't be tried under another name stays as it was seen.
    let taken = folder.run("link done/taken.mkv films --prove --format json");
    let taken: Value = serde_json::from_str(&taken.stdout).unwrap();
    assert_eq!(
        (&taken["hardlink"]["evidence"], &taken["rename"]["evidence"]),
        (&json!("observed"), &json!("observed"))
    );
    let elsewhere = folder.run("link done/film.mkv /dev --prove --format json");
    let elsewhere: Value = serde_json::from_str(&elsewhere.stdout).unwrap();
    assert_eq!(
        told(&elsewhere),
        "link-different-filesystem/EXDEV rename-different-filesystem/EXDEV"
    );
    // The view of a service is no place to try anything in.
    let demo = Folder::demo();
    let service = demo.run(
        "link /data/intake/done/films/1742.2019.1080p.mkv /data/films --from \
                            service:joiner --prove",
    );
    assert_eq!(service.code, 2);
    assert!(
        service.stderr.contains(
            "links can only be tried on this machine, and service:joiner is another viewpoint"
        ),
        "{}",
        service.stderr
    );
}

#[test]
fn what_a_killed_proof_left_is_taken_away_by_the_next() {
    let folder = shelf();
    // No process has such a number.
    let left = ["films/.tarvek-proof-4194305-7-l", "done/.tarvek-proof-4194305-7-m"];
    for name in left {
        fs::hard_link(folder.path("done/film.mkv"), folder.path(name)).unwrap();
    }
    folder.write("films/.tarvek-proof-4194305-8-l", "the last name of it");
    let answer = folder.run("link done/film.mkv films --prove");
    assert_eq!(answer.code, 0, "{}", answer.stderr);
    assert!(left.iter().all(|name| !folder.path(name).exists()));
    assert!(
        answer.stderr.contains(".tarvek-proof-4194305-8-l is left from a proof that was killed"),
        "{}",
        answer.stderr
    );
    assert_eq!(folder.read("films/.tarvek-proof-4194305-8-l"), "the last name of it");
}

const LINKED: &str =
    "link /data/intake/done/films/1742.2019.1080p.mkv /data/films/new.mkv --from service:joiner";
const COPIED: &str =
    "link /downloads/done/series/ferry.nine.s01e04.mkv /series --from service:gleaner";
const REFUSED: &str = "link /data/intake/done/music --from service:joiner /data/music";

#[test]
fn an_intake_that_links_one_that_copies_and_one_that_is_refused() {
    let demo = Folder::demo();
    insta::assert_snapshot!("linked", demo.run(LINKED).whole());
    insta::assert_snapshot!("copied", demo.run(COPIED).whole());
    insta::assert_snapshot!("refused", demo.run(REFUSED).whole());
}

/// The rows of the intakes: `films ✓ link`.
fn intakes(demo: &Folder) -> Vec<String> {
    let check = demo.json("check");
    let rows = check["board"].as_array().unwrap().iter().filter(|row| row["row"] == "intake");
    rows.map(|row| {
        let file =
            row["steps"].as_array().unwrap().iter().find(|step| step["step"] == "file").unwrap();
        format!("{} {} {}", row["name"], row["stages"]["linkable"], file["does"]).replace('"', "")
    })
    .collect()
}

#[test]
fn the_remedy_turns_each_into_a_link() {
    let demo = Folder::demo();
    assert_eq!(intakes(&demo), ["films ok link", "series fail copy", "music fail rename"]);
    let answer = demo.json(COPIED);
    let remedy = &answer["remedy"];
    assert_eq!(remedy["hardlink"]["possible"], true);
    let applied = demo.run("check --apply --only link/different-mount --yes");
    assert_eq!(applied.code, 1, "{}", applied.stderr);
    assert_eq!(intakes(&demo), ["films ok link", "series ok link", "music fail rename"]);
    let mended = format!(
        "link {} {} --from service:gleaner",
        remedy["from"].as_str().unwrap(),
        remedy["to"].as_str().unwrap()
    );
    assert_eq!(told(&demo.json(&mended)), "link+ok rename+ok");
    demo.edit("tarvek.toml", "umask = \"022\"", "umask = \"002\"");
    demo.edit("granary.listing", "|f 0644 844 2200", "|f 0664 844 2200");
    assert_eq!(intakes(&demo), ["films ok link", "series ok link", "music ok link"]);
    let rules: Vec<Value> = demo.json("check")["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| f["rule"].clone())
        .collect();
    assert!(
        !rules.iter().any(
            |rule| rule != "link/copied-imports" && rule.as_str().unwrap().starts_with("link/")
        ),
        "{rules:?}"
    );
}

#[test]
fn what_nobody_saw_is_not_guessed() {
    let demo = Folder::demo();
    demo.edit("granary.listing", "|fs.protected_hardlinks = 1\n", "");
    let answer = demo.json(&REFUSED.replace(
        "/data/intake/done/music",
        "/data/intake/done/music/the.barley.engines.04.new.field.flac",
    ));
    assert_eq!(told(&answer), "link?unknown rename+ok");
    let detail = answer["hardlink"]["detail"].as_str().unwrap();
    assert!(
        detail.starts_with(
            "whether fs.protected_hardlinks refuses it was not seen on granary \
                                (sysctl fs.protected_hardlinks tells)"
        ),
        "{detail}"
    );
    assert_eq!(demo.run(REFUSED).code, 1);
    // Without a mount table and without datasets nobody knows what lies on one filesystem.
    let listing = demo.read("granary.listing");
    let (start, end) =
        (listing.find("section mountinfo").unwrap(), listing.find("section fstab").unwrap());
    demo.write("granary.listing", listing[..start].to_owned() + &listing[end..]);
    assert_eq!(told(&demo.json(LINKED)), "link+ok rename+ok", "by the datasets of the layout");
    let layout = demo.read("tarvek.toml");
    let (start, end) = (layout.find("datasets = [").unwrap(), layout.find("groups = {").unwrap());
    demo.write("tarvek.toml", layout[..start].to_owned() + &layout[end..]);
    assert_eq!(told(&demo.json(LINKED)), "link?unknown rename?unknown");
    assert_eq!(demo.run(LINKED).code, 2);
}
