//! Surveys: live, again, from listings; what is refused; what differs.

#[path = "support/rows.rs"]
mod rows;
mod support;

use std::os::unix::fs::PermissionsExt;
use std::os::unix::fs::symlink;

use support::Folder;

/// A folder with a small shelf in it.
fn shelf() -> Folder {
    let folder = Folder::new();
    folder.write("shelf/films/1742 (2019)/1742.mkv", "x").write("shelf/films/new\nline.mkv", "xy");
    symlink("films", folder.path("shelf/link")).unwrap();
    symlink("loop", folder.path("shelf/loop")).unwrap();
    folder
}

#[test]
fn a_survey_is_renewed_and_compared() {
    let folder = shelf();
    let first = folder.run("survey shelf -o box.survey --host box");
    assert_eq!((first.code, first.stderr.as_str()), (0, ""));
    assert!(first.stdout.contains("0 changed, 0 removed"), "{}", first.stdout);
    let again = folder.run("survey shelf -o box.survey --host box");
    // The temporary folders above the root change all the time.
    let same = again.stdout.contains("(0 added, ") && again.stdout.contains(" 0 removed)");
    assert!(same, "{}", again.stdout);
    std::fs::copy(folder.path("box.survey"), folder.path("old.survey")).unwrap();

    folder
        .write("shelf/films/2091 (2004)/extras/2091.mkv", "new")
        .write("shelf/films/1742 (2019)/1742.mkv", "longer");
    std::fs::remove_file(folder.path("shelf/films/new\nline.mkv")).unwrap();
    std::fs::remove_file(folder.path("shelf/link")).unwrap();
    symlink("elsewhere", folder.path("shelf/link")).unwrap();
    let renewed = folder.run("survey shelf -o box.survey --host box");
    assert!(
        renewed.stdout.contains("3 added") && renewed.stdout.contains("1 removed"),
        "{}",
        renewed.stdout
    );

    let top = folder.path("shelf").to_str().unwrap().to_owned();
    let compare = folder.json("compare old.survey box.survey");
    let paths = |key: &str| {
        let all = compare[key].as_array().unwrap().iter();
        all.map(|c| c["path"].as_str().unwrap().trim_start_matches(&top).to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(paths("appeared"), ["/films/2091 (2004)"]);
    assert_eq!(compare["appeared"][0]["with"], 2);
    assert_eq!(paths("vanished"), ["/films/new\nline.mkv"]);
    assert_eq!(paths("changed"), ["/films/1742 (2019)/1742.mkv", "/link"]);
    assert_eq!(folder.run("compare old.survey box.survey").code, 1);
    // A survey made anew, and one that was renewed, tell the same.
    folder.run("survey shelf -o fresh.survey --host box");
    let same = folder.run("compare fresh.survey box.survey");
    assert_eq!((same.code, same.stdout.as_str()), (0, "nothing differs\n"));
}

#[test]
fn a_survey_of_a_listing_gives_the_same_answers() {
    let folder = Folder::demo();
    let before = folder.json("check");
    for host in ["granary", "millrace"] {
        let made = folder.run(&format!("survey --from {host}.listing -o {host}.survey"));
        assert_eq!(made.code, 0, "{}", made.stderr);
        assert_eq!(folder.run(&format!("compare {host}.listing {host}.survey")).code, 0);
    }
    let mut after = folder.json("check");
    for (before, after) in
        before["hosts"].as_array().unwrap().iter().zip(after["hosts"].as_array_mut().unwrap())
    {
        let name = after["host"].as_str().unwrap().to_owned();
        if !["parlour", "lodge"].contains(&name.as_str()) {
            assert_eq!(
                after["survey"],
                format!("{name}.survey"),
                "the survey goes before the listing"
            );
            after["survey"] = before["survey"].clone();
        }
    }
    assert_eq!(before, after);
    // Packed, and through a pipe.
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    std::io::Write::write_all(&mut packed, folder.read("granary.listing").as_bytes()).unwrap();
    let packed = packed.finish().unwrap();
    folder.write("packed.gz", &packed);
    assert_eq!(folder.run("survey --from packed.gz -o a.survey").code, 0);
    let mut piped = folder.command(["survey", "--from", "-", "-o", "b.survey"]);
    assert!(piped.write_stdin(packed.clone()).output().unwrap().status.success());
    assert_eq!(folder.run("compare a.survey b.survey").code, 0);
    folder.write("cut.gz", &packed[..packed.len() / 2]);
    let cut = folder.run("survey --from cut.gz -o c.survey");
    assert_eq!(cut.code, 2);
    assert!(cut.stderr.contains("damaged or cut off"), "{}", cut.stderr);
    assert!(!folder.path("c.survey").exists());
}

#[test]
fn files_that_are_no_survey_are_refused_and_left_alone() {
    let folder = shelf();
    folder.run("survey shelf -o good.survey --host box");
    let good = std::fs::read(folder.path("good.survey")).unwrap();
    let with = |from: usize, bytes: &[u8]| {
        let mut file = good.clone();
        file[from..from + bytes.len()].copy_from_slice(bytes);
        file
    };
    for (contents, words) in [
        (b"tarvek = 1\nsite = 'x'\n".repeat(9), "this is no listing"),
        (good[..good.len() / 2].to_vec(), "damaged or cut off"),
        (good[..100].to_vec(), "damaged or cut off"),
        // The version stands at byte 60 of an SQLite file, the application id at 68.
        (with(60, &[0, 0, 0, 9]), "its version is 9; this Tarvek reads version 1"),
        (with(68, &[0, 0, 0, 9]), "an SQLite file, but not a survey"),
        (with(18, &[7, 7]), "not a survey"),
    ] {
        folder.write("bad.survey", &contents);
        for arguments in ["compare bad.survey bad.survey", "survey shelf -o bad.survey --host box"]
        {
            let answer = folder.run(arguments);
            assert_eq!(answer.code, 2, "{arguments} {words}: {}", answer.stdout);
            assert_eq!(std::fs::read(folder.path("bad.survey")).unwrap(), contents, "{words}");
            let survey = arguments.starts_with("survey");
            assert!(
                answer.stderr.contains(words) || survey && answer.stderr.contains("not a survey"),
                "{words}: {}",
                answer.stderr
            );
        }
    }
    let other = folder.run("survey shelf -o good.survey --host elsewhere");
    assert!(other.stderr.contains("is a survey of box, not of elsewhere"), "{}", other.stderr);
    assert_eq!(std::fs::read(folder.path("good.survey")).unwrap(), good);
}

#[test]
fn a_survey_that_somebody_else_writes_is_in_use() {
    let folder = shelf();
    folder.run("survey shelf -o box.survey --host box");
    let db = rusqlite::Connection::open(folder.path("box.survey")).unwrap();
    db.execute_batch("BEGIN EXCLUSIVE").unwrap();
    let answer = folder.run("survey shelf -o box.survey --host box");
    assert_eq!(answer.code, 2);
    assert!(answer.stderr.contains("another program is writing it"), "{}", answer.stderr);
}

#[test]
fn roots_have_to_be_folders() {
    let folder = shelf();
    for (root, words) in [
        ("shelf/nothing", "does not exist"),
        ("shelf/link", "is a symlink"),
        ("shelf/loop", "leads nowhere"),
        ("shelf/films/1742\u{a0}", "does not exist"),
    ] {
        let answer = folder.run(&format!("survey {root} -o box.survey"));
        assert_eq!(answer.code, 2, "{root}");
        assert!(answer.stderr.contains(words), "{root}: {}", answer.stderr);
        assert!(!folder.path("box.survey").exists(), "{root}");
    }
    folder.write("file", "x");
    let answer = folder.run("survey file -o box.survey");
    assert!(answer.stderr.contains("is not a folder"), "{}", answer.stderr);
    assert!(folder.run("survey -o box.survey").stderr.contains("name the folders to look at"));
}

#[test]
fn an_old_or_broken_off_survey_is_a_finding() {
    let folder = Folder::demo();
    folder.edit("granary.listing", "taken 1795156200", "taken 1794000000");
    let rules = |arguments: &str| {
        let check = folder.json(arguments);
        let all = check["findings"].as_array().unwrap().clone();
        all.iter()
            .filter(|f| f["rule"].as_str().unwrap().starts_with("survey/"))
            .filter(|f| f["rule"] != "survey/none")
            .map(|f| f["message"].as_str().unwrap().to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(rules("check"), [""; 0]);
    assert_eq!(
        rules("check --max-age 3d"),
        ["granary was seen 15 days ago; at most 3 days are allowed"]
    );
    assert_eq!(rules("check --max-age 12h").len(), 2);
    assert_eq!(folder.run("check --max-age soon").code, 2);
    folder.run("survey --from granary.listing -o granary.survey");
    rusqlite::Connection::open(folder.path("granary.survey"))
        .unwrap()
        .execute("UPDATE survey SET value = 'partial' WHERE key = 'state'", [])
        .unwrap();
    assert_eq!(rules("check"), ["the survey of granary was broken off"]);
}

#[test]
fn secrets_are_never_stored() {
    let folder = Folder::demo();
    folder.edit(
        "millrace.listing",
        "section fstab\n",
        "section smb\n|passwd program = x\n|password = hunter2\nend smb\nsection fstab\n\
         |//granary/media /m cifs username=mira,password=hunter2 0 0\n",
    );
    folder.edit(
        "millrace.listing",
        "end mountinfo",
        "|90 22 0:99 / /m rw - cifs //granary/media \
        rw,username=mira,password=hunter2\nend mountinfo",
    );
    assert_eq!(folder.run("survey --from millrace.listing -o millrace.survey").code, 0);
    let stored = std::fs::read(folder.path("millrace.survey")).unwrap();
    assert!(!stored.windows(7).any(|window| window == b"hunter2"));
    assert!(stored.windows(8).any(|window| window == b"[hidden]"));
    assert!(!folder.run("check -v").stdout.contains("hunter2"));
}

#[test]
fn a_layout_names_the_roots_of_its_host() {
    let folder = shelf();
    let top = folder.path("shelf").to_str().unwrap().to_owned();
    folder.write(
        "tarvek.toml",
        format!(
            "tarvek = 1\nsite = 'x'\n[host.box]\nrole = 'storage'\n[share.films]\nhost = 'box'\n\
             path = '{top}/films'\n\
             [service.s]\nhost = 'box'\nrole = 'serve'\nruns_as = '0:0'\nmap = [{{ from = '{top}', \
             to = '/m', access = 'ro' }}]\n\
             libraries = [{{ name = 'F', kind = 'films', roots = ['/m/films'] }}]\n"
        ),
    );
    assert!(folder.run("survey -o box.survey").stderr.contains("--host box"));
    assert_eq!(folder.run("survey -o box.survey --host box").code, 0);
    let check = folder.json("check");
    assert_eq!(check["board"][0]["stages"]["titles"], 2, "{check}");
    assert_eq!(check["hosts"][0]["survey"], "box.survey");
}

/// What one round of [`a_renewed_survey_is_a_new_one`] does to the tree.
fn disturb(top: &std::path::Path, random: &mut dyn FnMut(usize) -> usize) {
    let mut all = vec![top.to_owned()];
    let mut next = 0;
    while next < all.len() {
        if all[next].symlink_metadata().unwrap().is_dir() {
            let mut names: Vec<_> =
                std::fs::read_dir(&all[next]).unwrap().map(|entry| entry.unwrap().path()).collect();
            names.sort();
            all.extend(names);
        }
        next += 1;
    }
    let mut folders: Vec<_> =
        all.iter().filter(|path| path.is_dir() && !path.is_symlink()).collect();
    let folder = folders.swap_remove(random(folders.len())).clone();
    let victim = all[random(all.len())].clone();
    let fresh = folder.join(format!("new {}", random(40)));
    let gone = |path: &std::path::Path| {
        if path != top && path.symlink_metadata().is_ok() {
            let folder = path.symlink_metadata().unwrap().is_dir();
            let done =
                if folder { std::fs::remove_dir_all(path) } else { std::fs::remove_file(path) };
            done.unwrap();
        }
    };
    match random(9) {
        0 if !fresh.is_file() => std::fs::create_dir_all(fresh.join("deep/er")).unwrap(),
        1 => {
            gone(&fresh);
            std::fs::write(&fresh, vec![b'x'; random(9000)]).unwrap();
        }
        2 => gone(&victim),
        3 if victim != top && !folder.starts_with(&victim) && !fresh.exists() => {
            std::fs::rename(&victim, &fresh).unwrap();
        }
        4 if !victim.is_symlink() => {
            let mode = [0o700, 0o755, 0o711, 0o2775][random(4)];
            std::fs::set_permissions(&victim, std::fs::Permissions::from_mode(mode)).unwrap();
        }
        5 if victim.is_file() && fresh.symlink_metadata().is_err() => {
            std::fs::hard_link(&victim, &fresh).unwrap();
        }
        6 => {
            // Something else under the old name.
            gone(&victim);
            if victim != top && random(2) == 0 {
                std::fs::create_dir(&victim).unwrap();
            } else if victim != top {
                symlink(["a", "b", "../c"][random(3)], &victim).unwrap();
            }
        }
        7 if victim.is_file() => std::fs::write(&victim, b"other").unwrap(),
        _ => {}
    }
}

#[test]
#[expect(clippy::print_stdout, reason = "the seed is shown where the test fails")]
fn a_renewed_survey_is_a_new_one() {
    let folder = Folder::new();
    for n in 0..60 {
        folder.write(&format!("shelf/{}/{}/file {n}", n % 3, n % 7), vec![b'y'; n * 100]);
    }
    let seed = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    let seed = std::env::var("TARVEK_SEED").map_or(seed.as_nanos() as u64, |s| s.parse().unwrap());
    println!("TARVEK_SEED={seed}");
    let mut state = seed;
    let mut random = move |below: usize| {
        // Knuth's MMIX constants; the high half is the random one.
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as usize % below
    };
    // Only what is older than this counts as known when a survey is renewed.
    std::thread::sleep(std::time::Duration::from_millis(2200));
    folder.run("survey shelf -o box.survey --host box");
    for round in 0..25 {
        for _ in 0..random(6) {
            disturb(&folder.path("shelf"), &mut random);
        }
        let renewed = folder.run("survey shelf -o box.survey --host box");
        assert_eq!(renewed.code, 0, "{}", renewed.stderr);
        std::fs::remove_file(folder.path("fresh.survey")).ok();
        folder.run("survey shelf -o fresh.survey --host box");
        let rows = |name: &str| rows::below(&folder.path(name), &folder.path("shelf"));
        assert_eq!(rows("box.survey"), rows("fresh.survey"), "TARVEK_SEED={seed}, round {round}");
    }
}

/// The last row of a survey may go, and its number must not come back in another folder.
#[test]
fn a_file_that_comes_when_the_last_one_went_is_in_its_own_folder() {
    let names: Vec<String> = ["a", "b", "c"]
        .iter()
        .flat_map(|f| (0..20).map(move |n| format!("shelf/{f}/{n:02}")))
        .collect();
    for gone in ["shelf/a/19", "shelf/b/19", "shelf/c/19"] {
        let folder = Folder::new();
        for name in &names {
            folder.write(name, "x");
        }
        folder.run("survey shelf -o box.survey --host box");
        std::fs::remove_file(folder.path(gone)).unwrap();
        folder.write("shelf/b/new", "x");
        for _ in 0..2 {
            assert_eq!(folder.run("survey shelf -o box.survey --host box").code, 0);
        }
        folder.run("survey shelf -o fresh.survey --host box");
        let rows = |name: &str| rows::below(&folder.path(name), &folder.path("shelf"));
        assert_eq!(rows("box.survey"), rows("fresh.survey"), "{gone} went");
    }
}

#[test]
fn a_listing_without_acls_says_so() {
    let folder = Folder::demo();
    folder.edit(
        "granary.listing",
        "section roots\n",
        "section lacking\n|acl: no getfacl command, for POSIX ACLs\nend lacking\nsection roots\n",
    );
    let check = folder.json("check");
    let findings = check["findings"].as_array().unwrap();
    let rule = findings.iter().find(|f| f["rule"] == "survey/no-acls").expect("it is a finding");
    assert_eq!(rule["subject"], "host:granary");
    assert!(!rule["affects"].as_array().unwrap().is_empty());
    let none = Folder::demo().json("check");
    assert!(none["findings"].as_array().unwrap().iter().all(|f| f["rule"] != "survey/no-acls"));
}

#[test]
fn digests_are_kept_as_long_as_a_file_is_unchanged() {
    let folder = Folder::new();
    folder
        .write("shelf/a", "first")
        .write("shelf/b/c", vec![b'z'; 300_000])
        .write("shelf/empty", "");
    symlink("a", folder.path("shelf/link")).unwrap();
    // Only what is older than this counts as known when a survey is renewed.
    std::thread::sleep(std::time::Duration::from_millis(2200));
    let survey = |words: &str| {
        let answer = folder.run("survey shelf -o box.survey --host box --digests");
        assert_eq!(answer.code, 0, "{}", answer.stderr);
        assert!(answer.stdout.contains(words), "{words}: {}", answer.stdout);
    };
    let stored = || {
        let db = rusqlite::Connection::open(folder.path("box.survey")).unwrap();
        let sql = "SELECT name, blake3 FROM content ORDER BY name";
        let mut statement = db.prepare(sql).unwrap();
        let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?))).unwrap();
        rows.collect::<Result<Vec<(Vec<u8>, Vec<u8>)>, _>>().unwrap()
    };
    let of = |name: &str, path: &str| {
        let digest = blake3::hash(&std::fs::read(folder.path(path)).unwrap());
        (name.as_bytes().to_vec(), digest.as_bytes().to_vec())
    };
    survey("digests: 2 files read (293.0 KiB), 0 kept");
    assert_eq!(stored(), [of("a", "shelf/a"), of("c", "shelf/b/c")]);
    survey("digests: 0 files read (0 bytes), 2 kept");
    // A new mode leaves the digest; a sample says that the contents are what they were.
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o600);
    std::fs::set_permissions(folder.path("shelf/b/c"), mode).unwrap();
    survey("digests: 0 files read (0 bytes), 2 kept");
    folder.write("shelf/a", "other");
    survey("digests: 1 file read (5 bytes), 1 kept");
    assert_eq!(stored(), [of("a", "shelf/a"), of("c", "shelf/b/c")]);
    // Without being asked for, none is made, and one of what has changed goes.
    folder.write("shelf/a", "third");
    assert_eq!(folder.run("survey shelf -o box.survey --host box").code, 0);
    assert_eq!(stored(), [of("c", "shelf/b/c")]);
    std::fs::remove_dir_all(folder.path("shelf/b")).unwrap();
    assert_eq!(folder.run("survey shelf -o box.survey --host box").code, 0);
    assert_eq!(stored(), []);
}

#[test]
fn tables_of_a_host_are_compared() {
    let folder = Folder::demo();
    std::fs::copy(folder.path("granary.listing"), folder.path("old.listing")).unwrap();
    for (from, to) in [
        ("|lantern:x:840:840:", "|lantern:x:1003:840:"),
        ("|63 61 0:53", "|99 61 0:99 / /loft/extra rw - zfs loft/extra rw\n|63 61 0:53"),
        ("section roots", "section exports\n|/loft/media *(rw)\nend exports\nsection roots"),
    ] {
        folder.edit("granary.listing", from, to);
    }
    folder.edit(
        "old.listing",
        "section roots",
        "section exports\n|/loft/media 10.20.0.0/24(ro)\nend exports\nsection roots",
    );
    let compare = folder.json("compare old.listing granary.listing");
    let tables: Vec<(&str, Vec<String>)> = compare["tables"]
        .as_array()
        .unwrap()
        .iter()
        .map(|table| {
            let lines = |key: &str| {
                table[key]
                    .as_array()
                    .unwrap()
                    .iter()
                    .map(|line| line.as_str().unwrap().to_owned())
                    .collect::<Vec<_>>()
            };
            (table["table"].as_str().unwrap(), [lines("removed"), lines("added")].concat())
        })
        .collect();
    let of = |name: &str| {
        tables
            .iter()
            .find(|(table, _)| *table == name)
            .map(|(_, lines)| lines.clone())
            .unwrap_or_default()
    };
    assert_eq!(tables.len(), 3, "{tables:?}");
    assert_eq!(of("mount"), ["zfs loft/extra on /loft/extra / rw"]);
    assert_eq!(of("account").len(), 2);
    assert!(
        of("account")[0].contains("uid 840") && of("account")[1].contains("uid 1003"),
        "{tables:?}"
    );
    assert_eq!(of("exports"), ["/loft/media 10.20.0.0/24(ro)", "/loft/media *(rw)"]);
    let text = folder.run("compare old.listing granary.listing");
    assert_eq!(text.code, 1);
    for line in
        ["- /loft/media 10.20.0.0/24(ro)", "+ /loft/media *(rw)", "zfs loft/extra on /loft/extra"]
    {
        assert!(text.stdout.contains(line), "{}", text.stdout);
    }
}

/// A tree that takes a moment to survey.
fn large() -> Folder {
    let folder = Folder::new();
    for n in 0..20_000 {
        if n % 200 == 0 {
            std::fs::create_dir_all(folder.path(&format!("top/{}", n / 200))).unwrap();
        }
        std::fs::File::create(folder.path(&format!("top/{}/{n}", n / 200))).unwrap();
    }
    folder
}

#[test]
fn an_interrupted_survey_leaves_what_was_there() {
    use nix::sys::signal::{Signal, kill};
    let folder = large();
    let survey = folder.path("box.survey");
    assert_eq!(folder.run("survey top/0 top/1 -o box.survey --host box").code, 0);
    let before = std::fs::read(&survey).unwrap();
    let mut interrupted = 0;
    for delay in (5..80).step_by(5).cycle().take(60) {
        let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_tarvek"))
            .args(["survey", "top", "-o", "box.survey", "--host", "box"])
            .current_dir(folder.path(""))
            .stderr(std::process::Stdio::piped())
            .stdout(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(delay));
        kill(nix::unistd::Pid::from_raw(child.id() as i32), Signal::SIGINT).unwrap();
        let status = child.wait().unwrap();
        if status.code() == Some(2) {
            let mut errors = String::new();
            std::io::Read::read_to_string(&mut child.stderr.take().unwrap(), &mut errors).unwrap();
            assert!(errors.contains("interrupted; nothing was written"), "{errors}");
            assert_eq!(std::fs::read(&survey).unwrap(), before);
            interrupted += 1;
        } else {
            // It was too early to be heard, or too late: then the file is what a whole survey
            // leaves.
            std::fs::write(&survey, &before).unwrap();
        }
        if interrupted == 3 {
            return;
        }
    }
    panic!("no survey was interrupted on its way");
}

#[test]
fn progress_is_shown_on_a_terminal_and_nowhere_else() {
    use std::io::Read;
    let folder = large();
    let quiet = folder.run("survey top -o a.survey");
    assert_eq!((quiet.code, quiet.stderr.as_str()), (0, ""));
    let pty = nix::pty::openpty(None, None).unwrap();
    let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_tarvek"))
        .args(["survey", "top", "-o", "b.survey"])
        .current_dir(folder.path(""))
        .stdout(std::process::Stdio::null())
        .stderr(pty.slave)
        .spawn()
        .unwrap();
    assert!(child.wait().unwrap().success());
    let mut shown = vec![0; 65536];
    let length = std::fs::File::from(pty.master).read(&mut shown).unwrap();
    let shown = String::from_utf8_lossy(&shown[..length]).into_owned();
    assert!(shown.contains(" entries, ") && shown.contains("/s"), "{shown:?}");
}

/// Where a host has the tool that tells NFSv4 ACLs, its listing carries them, and they decide.
#[test]
fn a_listing_carries_nfsv4_acls_and_projects() {
    let folder = Folder::new();
    folder.write("loft/films/a film.mkv", "x").write("loft/odd\\name/b", "x");
    // The tool as its manual describes it, with one ACL for what is called films.
    folder.write(
        "tools/nfs4_getfacl",
        "#!/bin/sh\ncase $1 in\n*films) printf '# file: \
         %s\\nA::OWNER@:rwaDxtTnNcCoy\\nD::840:r\\nA::EVERYONE@:rxtncy\\n' \"$1\" ;;\n\
         *) printf 'A::EVERYONE@:rxtncy\\n' ;;\nesac\n",
    );
    folder.write(
        "tools/lsattr",
        "#!/bin/sh\nshift 2\n[ \"$1\" != -- ] || shift\nfor f; do \
                                  echo \"   42 ----i---------eP------ $f\"; done\n",
    );
    for tool in ["nfs4_getfacl", "lsattr"] {
        std::fs::set_permissions(
            folder.path(&format!("tools/{tool}")),
            PermissionsExt::from_mode(0o755),
        )
        .unwrap();
    }
    folder.write("collector.sh", folder.run("survey --collector").stdout);
    let path = std::env::var("PATH").unwrap();
    let tools = format!("{}:{path}", folder.path("tools").display());
    let loft = folder.path("loft");
    let output = std::process::Command::new("sh")
        .arg(folder.path("collector.sh"))
        .arg(&loft)
        .env("PATH", tools)
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    folder.write("box.listing", output.stdout);
    let told = folder.run("survey --from box.listing -o box.survey");
    assert_eq!(told.code, 0, "{}", told.stderr);
    let text = folder.read("box.listing");
    assert!(text.contains("odd\\134name"), "{text}");
    // From the listing as from the survey that was made of it, by the host's own view.
    let host = text.lines().find_map(|line| line.strip_prefix("host ")).unwrap().to_owned();
    folder.write(
        "tarvek.toml",
        format!("tarvek = 1\nsite = \"x\"\n[host.{host:?}]\nrole = \"storage\"\n"),
    );
    for seen in ["box.listing", "box.survey"] {
        let films = loft.join("films");
        let films = films.to_str().unwrap();
        let answer = folder.json(&format!(
            "access {films} --from host:{host} --as 840:840 --need read,add --survey {seen}"
        ));
        let reasons: Vec<&str> = answer["verdicts"]
            .as_array()
            .unwrap()
            .iter()
            .map(|v| v["reason"].as_str().unwrap())
            .collect();
        assert!(reasons[0].starts_with("D::840:r"), "{seen}: {reasons:?}");
        assert!(reasons[1].contains("immutable"), "{seen}: {reasons:?}");
    }
}

#[test]
fn answers_from_a_survey_that_was_broken_off_say_so() {
    let folder = Folder::demo();
    assert_eq!(folder.run("survey --from granary.listing -o granary.survey").code, 0);
    rusqlite::Connection::open(folder.path("granary.survey"))
        .unwrap()
        .execute("UPDATE survey SET value = 'partial' WHERE key = 'state'", [])
        .unwrap();
    for command in [
        "trace /loft/media/films --from host:granary",
        "access /loft/media/films --from host:granary",
        "access /loft/media/films --from host:granary --all",
        "access /loft/media/films --from host:granary --new-file",
        "compare granary.survey granary.listing",
    ] {
        let answer = folder.run(command);
        assert!(
            answer.stderr.contains("the survey of granary was broken off"),
            "{command}: {}",
            answer.stderr
        );
        assert_eq!(folder.json(command)["partial"], serde_json::json!(["granary"]), "{command}");
        let whole = Folder::demo();
        let whole = whole.run(&command.replace("granary.survey", "granary.listing"));
        assert!(
            !whole.stderr.contains("broken off") && !whole.stdout.contains("partial"),
            "{command}"
        );
    }
}

#[test]
fn what_is_no_listing_is_refused_before_it_is_unpacked() {
    use std::io::Write;
    let folder = Folder::new();
    let packed = |start: &str, more: &[u8], times: usize| {
        let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        gz.write_all(start.as_bytes()).unwrap();
        (0..times).for_each(|_| gz.write_all(more).unwrap());
        gz.finish().unwrap()
    };
    let chunk = vec![b'x'; 1 << 20];
    for (start, words) in [
        ("", "this is no listing"),
        ("tarvek-listing 1\n", "a line of more than"),
        ("tarvek-listing 1\nsection x\n|", "a line of more than"),
        ("tarvek-listing 1\nno part\n", "a line of more than"),
        ("tarvek-listing 1\n?\n", "no part of a listing"),
    ] {
        folder.write("bomb.gz", packed(start, &chunk, 30));
        let started = std::time::Instant::now();
        let answer = folder.run("survey --from bomb.gz -o x.survey");
        assert!(answer.code == 2 && answer.stderr.contains(words), "{start:?}: {}", answer.stderr);
        assert!(started.elapsed().as_secs() < 20 && !folder.path("x.survey").exists());
        // Nor does standard input.
        let mut command = folder.command(["survey", "--from", "-", "-o", "x.survey"]);
        let output =
            command.write_stdin(std::fs::read(folder.path("bomb.gz")).unwrap()).output().unwrap();
        let told = String::from_utf8(output.stderr).unwrap();
        assert!(output.status.code() == Some(2) && told.contains(words), "{start:?}: {told}");
    }
}

#[test]
fn the_collector_takes_dots_in_a_root_as_the_kernel_does() {
    let folder = Folder::new();
    folder.write("top/in/a", "1").write("other/b", "2");
    folder.write("collector.sh", folder.run("survey --collector").stdout);
    let root =
        format!("{}/top/./../top//in", folder.path("").display().to_string().trim_end_matches('/'));
    let gone = format!("{}/../nowhere/x", folder.path("top").display());
    let mut sh = std::process::Command::new("sh");
    let output = sh.arg(folder.path("collector.sh")).args([&root, &gone]).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    folder.write("box.listing", &output.stdout);
    let read = folder.run("survey --from box.listing -o box.survey");
    assert_eq!(read.code, 0, "{}", read.stderr);
    let listing = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(
        listing.lines().any(|line| line.starts_with("|deep ") && line.ends_with("/top/in")),
        "{listing}"
    );
    assert!(listing.contains("nowhere/x is no folder that can be entered"), "{listing}");
}
