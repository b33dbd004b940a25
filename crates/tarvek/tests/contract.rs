//! The JSON contract, the exit codes, and the schemas that describe both.

mod support;

use std::collections::BTreeSet;

use serde_json::Value;
use support::Folder;

fn assert_valid(folder: &Folder, schema: &str, document: &Value) {
    let answer = folder.run(&format!("schema {schema}"));
    let schema: Value = serde_json::from_str(&answer.stdout).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let errors: Vec<String> = validator.iter_errors(document).map(|e| e.to_string()).collect();
    assert!(errors.is_empty(), "{errors:?}");
}

#[test]
fn documents_validate_against_their_schemas() {
    let folder = Folder::demo();
    folder.write("shelf/Why?.mkv", "x");
    folder
        .write("copies/Low Water (2003).mkv", "same")
        .write("copies/b.mkv", "same")
        .write("copies/.DS_Store", "x");
    folder.run("waste copies --review review.csv");
    folder.write("tarvek.fstab", "granary:/a /b nfs ro\nodd\n");
    let later = folder.read("granary.listing").replace("|f 0644 844 2200", "|f 0664 844 2200");
    folder.write("later.listing", later);
    let mut checked = BTreeSet::new();
    for (arguments, schema) in [
        ("check", "check"),
        ("trace /media/films --from service:lantern", "trace"),
        ("trace /archive/reels --from service:lantern", "trace"),
        ("access /media/photos --from service:lantern", "access"),
        ("trace --to granary:/loft/media/films", "trace-to"),
        ("link /downloads/done/series /series --from service:gleaner", "link"),
        ("link /data/intake/done/music /data/music --from service:joiner", "link"),
        ("adopt granary:tarvek.fstab", "adopt"),
        ("forecast", "forecast"),
        ("forecast --titles --media", "forecast"),
        ("forecast --layout roots.toml --problems", "forecast"),
        ("forecast Films --since granary.listing", "forecast"),
        ("check --names shelf", "check"),
        ("waste", "waste"),
        ("waste copies --cache cache", "waste"),
        ("reclaim review.csv", "reclaim"),
        ("reclaim --total", "reclaim-total"),
        ("check --apply", "apply"),
        ("check --apply --only path/case", "apply"),
        ("access /loft/media/films --from host:granary --all", "access-all"),
        ("access /data/films --from service:joiner --new-file", "new-file"),
        ("compare granary.listing later.listing", "compare"),
    ] {
        let document = folder.json(arguments);
        assert_eq!(document["schema"], format!("tarvek/{schema}/1"));
        assert_valid(&folder, schema, &document);
        checked.insert(schema.to_owned());
    }
    // Every document that has a schema; the two others are files that people write.
    let listed = folder.run("schema ?").stderr;
    let listed = listed.split("possible values: ").nth(1).unwrap().split(']').next().unwrap();
    let mut listed: BTreeSet<String> = listed.split(", ").map(str::to_owned).collect();
    assert!(listed.remove("layout") && listed.remove("brief"));
    assert_eq!(checked, listed);
}

#[test]
fn a_schema_refuses_what_is_not_the_contract() {
    let folder = Folder::demo();
    let mut document = folder.json("check");
    document["board"][0]["stages"]["mapped"] = "perhaps".into();
    let schema: Value = serde_json::from_str(&folder.run("schema check").stdout).unwrap();
    assert!(!jsonschema::is_valid(&schema, &document));
}

#[test]
fn the_demo_layout_validates_against_the_layout_schema() {
    let folder = Folder::demo();
    let toml: toml::Value = toml::from_str(&folder.read("tarvek.toml")).unwrap();
    assert_valid(&folder, "layout", &serde_json::to_value(toml).unwrap());
}

#[test]
fn the_fields_of_the_contract() {
    let folder = Folder::demo();
    let trace = folder.json("trace /media/films --from service:lantern");
    assert_eq!(trace["from"], "service:lantern");
    assert_eq!(trace["ends"], serde_json::json!({"host": "granary", "path": "/loft/media/films"}));
    assert_eq!(trace["complete"], true);
    let hop = &trace["hops"][0];
    assert_eq!(hop["kind"], "mapping");
    assert_eq!(hop["host"], "millrace");
    assert_eq!(hop["path_in"], "/media/films");
    assert_eq!(hop["path_out"], "/mnt/granary/media/films");
    assert_eq!(hop["mode"], "ro");
    assert_eq!(hop["identity"], serde_json::json!({"uid": 840, "gid": 840, "groups": []}));
    assert_eq!(hop["evidence"], "observed");

    let access = folder.json("access /media/photos --from service:lantern --need read");
    assert_eq!(access["as"], serde_json::json!({"uid": 840, "gid": 840, "groups": [840]}));
    let verdict = &access["verdicts"][0];
    assert_eq!(verdict["need"], "read");
    assert_eq!(verdict["allowed"], false);
    assert_eq!(verdict["decided_at"], "/loft/media/photos");
    assert_eq!(verdict["errno"], "EACCES");

    let check = folder.json("check");
    let films = &check["board"][0];
    assert_eq!((&films["ready"], &films["evidence"]), (&true.into(), &"observed".into()));
    let evenings = &check["board"][6];
    let stages = serde_json::json!({"mapped": "ok", "mounted": "unseen", "exists": "unseen",
                                    "readable": "unseen", "titles": null});
    assert_eq!((&evenings["stages"], &evenings["evidence"]), (&stages, &"declared".into()));
    assert_eq!(films["stages"]["titles"], 6);
    assert_eq!(check["totals"], serde_json::json!({"blocker": 4, "risk": 5, "note": 1}));
}

#[test]
fn exit_codes_follow_the_threshold() {
    let folder = Folder::demo();
    assert_eq!(folder.run("check").code, 1);
    assert_eq!(folder.run("trace /media/films --from service:lantern").code, 0);
    assert_eq!(folder.run("trace /books2 --from service:lantern").code, 1);
    assert_eq!(folder.run("access /media/films --from service:lantern").code, 0);
    assert_eq!(folder.run("access /media/films --from service:lantern --need add").code, 1);
    assert_eq!(folder.run("trace /loft/media --from host:granary").code, 0);
    assert_eq!(folder.run("trace /home/mira --from host:granary").code, 2, "nobody looked there");
    // The layout alone, with nobody having looked anywhere: that two mappings are two mounts needs
    // no look.
    let alone = Folder::new();
    alone.write("tarvek.toml", folder.read("tarvek.toml"));
    for (threshold, code) in [("blocker", 0), ("risk", 1), ("note", 1)] {
        let check = format!("check --fail-on {threshold}");
        assert_eq!(alone.run(&check).code, 1, "nothing is ready that nobody saw");
        assert_eq!(alone.run(&format!("{check} --allow-unready")).code, code, "{threshold}");
    }
}

#[test]
fn severities_and_silences_of_the_layout_count() {
    let folder = Folder::demo();
    folder.write(
        "tarvek.toml",
        folder.read("tarvek.toml")
            + "\n[rules]\nseverity = { \"path/case\" = \"note\", \"mount/not-mounted\" \
               = \"risk\", \"access/root-unreadable\" = \"risk\" }\n\
               silence = [{ rule = \"library/nothing-found\", why = \"known\" }]\n",
    );
    let check = folder.json("check");
    assert_eq!(check["totals"], serde_json::json!({"blocker": 0, "risk": 7, "note": 2}));
    assert_eq!(check["silenced"], 4);
    assert_eq!(folder.run("check --allow-unready").code, 0);
    folder.edit(
        "tarvek.toml",
        "\"path/case\" = ",
        "\"link/different-mount\" = \"blocker\", \"path/case\" = ",
    );
    assert_eq!(folder.run("check").code, 1);
    assert_eq!(folder.run("check --fail-on risk").code, 1);
    // Silenced below one path only, the others still speak.
    folder.edit("tarvek.toml", "why = \"known\"", "where = \"/srv\", why = \"known\"");
    assert_eq!(folder.json("check")["silenced"], 1);
}

#[test]
fn mistakes_on_the_command_line_exit_with_2() {
    let folder = Folder::demo();
    for (arguments, words) in [
        ("check --fail-on never", "invalid value 'never'"),
        ("trace /x --from service:lamtern", "did you mean service:lantern?"),
        ("trace relative --from service:lantern", "is not absolute"),
        ("access /x --as nobody:me", "is no subject"),
        // The number that stands for "no change".
        ("access /x --as 4294967295", "is no subject"),
        ("access /x --as 4294967295:0", "is no subject"),
        ("access /x --as 7:4294967295", "is no subject"),
        ("access /x --as 7:7,4294967295", "is no subject"),
        ("explain path/mising", "did you mean path/missing?"),
        ("check --this-host grannary", "did you mean granary?"),
        ("check --survey tarvek.toml", "a listing starts with: tarvek-listing 1"),
        (
            "check --survey granary.listing --survey granary.listing",
            "two surveys are of the host granary",
        ),
    ] {
        let answer = folder.run(arguments);
        assert_eq!(answer.code, 2, "{arguments}");
        assert!(answer.stderr.contains(words), "{arguments}: {}", answer.stderr);
        assert_eq!(answer.stdout, "", "{arguments}");
    }
    let nowhere = Folder::new().run("check");
    assert_eq!(nowhere.code, 2);
    assert!(nowhere.stderr.contains("there is no layout"), "{}", nowhere.stderr);
}

#[test]
fn colour_is_only_where_it_is_wanted() {
    let folder = Folder::demo();
    assert!(!folder.run("check").stdout.contains('\x1b'));
    assert!(folder.run("check --color always").stdout.contains('\x1b'));
    let quiet = folder.run("check --quiet").stdout;
    assert_eq!(quiet.lines().count(), 1, "{quiet}");
}

/// Each command's help ends with two examples, and each of them works in the demo's folder.
#[test]
fn the_examples_of_every_help_work_in_the_folder_of_the_demo() {
    let folder = Folder::new();
    let demo = folder.run("demo .");
    assert_eq!(demo.code, 0, "{}", demo.stderr);
    let help = folder.run("--help").stdout;
    let commands = help.split("Commands:\n").nth(1).unwrap().split("\n\n").next().unwrap();
    let commands = commands.lines().filter(|line| !line.starts_with("   "));
    let commands: Vec<&str> = commands.filter_map(|line| line.split_whitespace().next()).collect();
    assert!(commands.len() >= 15, "{commands:?}");
    for command in commands {
        let help = folder.run(&format!("{command} --help")).stdout;
        let (before, examples) = help.split_once("\nExamples:\n").expect(command);
        // What is the command's own comes before what every command has.
        let own = before.find("\nOptions:").expect(command);
        assert!(before.find("\nOptions of every command:").expect(command) > own, "{command}");
        let examples: Vec<&str> = examples.lines().map(str::trim).collect();
        assert_eq!(examples.len(), 2, "{command}");
        for example in examples {
            let arguments = example.strip_prefix("tarvek ").expect(example);
            let arguments = arguments.split(" > ").next().unwrap();
            let answer = folder.run(arguments);
            assert!([0, 1].contains(&answer.code), "{example}: {}", answer.stderr);
        }
    }
}

#[test]
fn the_list_of_rules_keeps_to_the_width_of_a_terminal() {
    use std::io::Read;
    let size = nix::pty::Winsize { ws_row: 40, ws_col: 50, ws_xpixel: 0, ws_ypixel: 0 };
    for arguments in [&["explain"][..], &["explain", "access/not-as-declared"]] {
        let pty = nix::pty::openpty(Some(&size), None).unwrap();
        let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_tarvek"));
        command.args(arguments).args(["--color", "never"]).stdout(pty.slave);
        let mut child = command.spawn().unwrap();
        // The program's end of the terminal is closed with it; then reading fails.
        drop(command);
        let mut shown = Vec::new();
        let _ = std::fs::File::from(pty.master).read_to_end(&mut shown);
        assert!(child.wait().unwrap().success());
        let shown = String::from_utf8(shown).unwrap();
        let wide: Vec<&str> =
            shown.lines().filter(|line| line.trim_end().chars().count() > 50).collect();
        assert!(shown.lines().count() > 10 && wide.is_empty(), "{wide:#?}");
    }
}

/// A site of which nothing is asked has nothing that could be ready.
#[test]
fn a_site_without_libraries_and_intakes_is_not_fine() {
    let folder = Folder::new();
    folder.write("tarvek.toml", "tarvek = 1\nsite = \"Weir\"\n[host.weir]\nrole = \"storage\"\n");
    let answer = folder.run("check");
    assert_eq!(answer.code, 1);
    let first = answer.stdout.lines().next().unwrap();
    assert_eq!(first, "Weir: no library and no intake is declared; 1 risk");
    assert_eq!(folder.json("check")["findings"][0]["rule"], "layout/no-library");
    assert_eq!(folder.run("check --allow-unready").code, 0);
}
