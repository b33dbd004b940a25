//! What a scan would find: the built program on the demo site and on files in temporary folders.

mod support;

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;

use serde_json::{Value, json};
use support::Folder;

fn json(folder: &Folder, arguments: &str) -> Value {
    let answer = folder.run(&format!("forecast --format json {arguments}"));
    assert_eq!(answer.code, 0, "{}", answer.stderr);
    serde_json::from_str(&answer.stdout).unwrap()
}

/// The figures of the only library: titles, files, unreadable, unrecognised, ignored.
fn figures(answer: &Value) -> [u64; 5] {
    let library = &answer["libraries"][0];
    ["titles", "files", "unreadable", "unrecognised", "ignored"]
        .map(|key| library[key].as_u64().unwrap())
}

#[test]
fn figures_and_titles_of_the_demo() {
    let folder = Folder::demo();
    insta::assert_snapshot!("figures", folder.run("forecast").whole());
    insta::assert_snapshot!("roots", folder.run("forecast --layout roots.toml").whole());
    insta::assert_snapshot!("titles", folder.run("forecast --titles Films Series").whole());
    let problems = "forecast --layout roots.toml Attic --problems";
    insta::assert_snapshot!("problems", folder.run(problems).whole());
    insta::assert_snapshot!("board_of_roots", folder.run("check --layout roots.toml").whole());
}

#[test]
fn a_folder_is_read_without_a_layout() {
    let folder = Folder::new();
    for name in [
        "films/The Salt Orchard (2011)/The Salt Orchard (2011) 1080p.mkv",
        "films/The Salt Orchard (2011)/The Salt Orchard (2011) - part2.mkv",
        "films/The Salt Orchard (2011)/poster.jpg",
        "films/The Salt Orchard (2011)/The Salt Orchard (2011) 1080p.en.srt",
        "films/1742 (2019)/1742.mkv",
        "films/2091.2004.1080p.mkv",
        "films/IMG_0001.mp4",
        "films/.hidden/a.mkv",
        "films/Thumbs.db",
        "films/lost+found/x.mkv",
    ] {
        folder.write(name, "x");
    }
    let answer = json(&folder, "--kind films films");
    // Poster, subtitle, thumbnails, and two folders that are passed over with all that is in them.
    assert_eq!(figures(&answer), [3, 5, 0, 1, 5], "{answer:#}");
    assert_eq!(figures(&json(&folder, "--kind films films --titles")), figures(&answer));
    let found = json(&folder, "--kind films films --titles")["libraries"][0]["found"].clone();
    assert_eq!(found[2]["subtitles"], json!(["en"]), "{found:#}");
    let titles: Vec<Value> = found
        .as_array()
        .unwrap()
        .iter()
        .map(|found| {
            json!([found["title"], found["year"], found["files"].as_array().unwrap().len()])
        })
        .collect();
    assert_eq!(
        json!(titles),
        json!([["1742", 2019, 1], ["2091", 2004, 1], ["The Salt Orchard", 2011, 2]])
    );
}

#[test]
fn episodes_are_entries_and_shows_are_titles() {
    let folder = Folder::new();
    for name in [
        "s/Ferry Nine/Season 01/Ferry Nine S01E02-E04.mkv",
        "s/Ferry Nine/Season 01/Ferry Nine S01E02-E04 720p.mkv",
        "s/Ferry Nine/Season 01/Ferry Nine S01E05.mkv",
        "s/Ferry Nine/Specials/Ferry Nine S00E01.mkv",
        "s/Harbour News/Harbour News 2011-03-04.mkv",
        "s/Pier 88/Season 01/Pier 88 S01E03.mkv",
        "s/Pier 88/making of.mkv",
    ] {
        folder.write(name, "x");
    }
    let answer = json(&folder, "--kind series s --titles");
    assert_eq!(figures(&answer), [3, 7, 0, 1, 0], "{answer:#}");
    let found = answer["libraries"][0]["found"].as_array().unwrap();
    let one = found.iter().find(|found| found["episodes"] == json!([2, 3, 4])).unwrap();
    assert_eq!((one["season"].as_u64(), one["files"].as_array().unwrap().len()), (Some(1), 2));
    let news = found.iter().find(|found| found["title"] == "Harbour News").unwrap();
    assert_eq!(news["date"], "2011-03-04");
    assert!(news.get("season").is_none() && news.get("episodes").is_none(), "{news}");
    assert!(
        found.iter().any(|found| found["title"] == "Pier 88" && found["episodes"] == json!([3]))
    );
}

#[test]
fn what_cant_be_read_is_no_title() {
    let folder = Folder::new();
    folder.write("tarvek.toml", LAYOUT).write("granary.listing", listing("0755", "0755"));
    assert_eq!(figures(&json(&folder, "")), [2, 2, 1, 0, 0]);
    folder.write("granary.listing", listing("0755", "0700"));
    assert_eq!(
        figures(&json(&folder, "")),
        [1, 1, 3, 0, 0],
        "a folder that is shut can't be read, nor what is in it"
    );
    folder.write("granary.listing", listing("0700", "0755"));
    assert_eq!(figures(&json(&folder, "")), [0, 0, 5, 0, 0], "so does a root that is shut");
}

const LAYOUT: &str = "tarvek = 1
site = \"x\"
[host.granary]
role = \"storage\"
[service.lantern]
host = \"granary\"
role = \"serve\"
runs_as = \"840:840\"
libraries = [{ name = \"Films\", kind = \"films\", roots = [\"/loft/films\"] }]
";

fn listing(root: &str, folder: &str) -> String {
    let mut lines = String::new();
    for (kind, mode, path) in [
        ("d", "0755", "/"),
        ("d", "0755", "/loft"),
        ("d", root, "/loft/films"),
        ("d", folder, "/loft/films/A (2001)"),
        ("f", "0644", "/loft/films/A (2001)/A (2001).mkv"),
        ("d", "0755", "/loft/films/B (2002)"),
        ("f", "0644", "/loft/films/B (2002)/B (2002).mkv"),
        ("f", "0600", "/loft/films/B (2002)/B (2002) uncut.mkv"),
    ] {
        let inode = 10 + lines.lines().count();
        lines += &format!("|{kind} {mode} 0 0 1 512 {inode} 1 1791700000 - {path}\n");
    }
    let demo = include_str!("../src/demo/granary.listing");
    let start = demo.find("section tree").unwrap();
    let head =
        demo[..start].lines().filter(|line| !line.starts_with("|/loft")).map(|l| format!("{l}\n"));
    let columns = demo[start..].lines().next().unwrap();
    format!("{}{columns}\n{lines}end tree\ncomplete\n", head.collect::<String>())
}

#[test]
fn renames_are_proposed_and_never_made() {
    let folder = Folder::new();
    folder
        .write("films/Low.Water.2003.720p.mkv", "x")
        .write("films/Low.Water.2003.720p.en.srt", "x")
        .write("films/Why? (1999)/Why? (1999).mkv", "x")
        .write("films/ferry.nine.s01e01.mkv", "x");
    let answer = folder.run("forecast --kind films films --renames review.csv");
    assert_eq!(answer.code, 0, "{}", answer.stderr);
    assert!(
        answer.stderr.contains("4 renames proposed in review.csv; nothing was renamed"),
        "{}",
        answer.stderr
    );
    let review = folder.read("review.csv");
    let top = folder.path("films");
    let top = top.to_str().unwrap();
    let rows: Vec<String> = review
        .lines()
        .skip(1)
        .map(|row| row.split(',').take(2).collect::<Vec<_>>().join(" > ").replace(top, ""))
        .collect();
    assert_eq!(review.lines().next(), Some("old,new,why,host,old_bytes"));
    assert_eq!(
        rows,
        [
            "/Why? (1999)/Why? (1999).mkv > /Why? (1999)/Why (1999).mkv",
            "/Low.Water.2003.720p.en.srt > /Low Water (2003)/Low Water (2003) - 720p.en.srt",
            "/Low.Water.2003.720p.mkv > /Low Water (2003)/Low Water (2003) - 720p.mkv",
            "/Why? (1999) > /Why (1999)",
        ]
    );
    assert!(folder.path("films/Low.Water.2003.720p.mkv").exists());
    // A review that is there is somebody's work.
    let again = folder.run("forecast --kind films films --renames review.csv");
    assert_eq!(again.code, 2);
    assert!(again.stderr.contains("review.csv is there already"), "{}", again.stderr);
    // Made as proposed, in that order, everything is found.
    for row in review.lines().skip(1) {
        let fields: Vec<&str> = row.split(',').collect();
        std::fs::create_dir_all(std::path::Path::new(fields[1]).parent().unwrap()).unwrap();
        std::fs::rename(fields[0], fields[1]).unwrap();
    }
    let names = folder.run("check --names films");
    assert!(names.stdout.contains("every name below"), "{}", names.stdout);
}

#[test]
fn a_later_survey_says_what_came_and_went() {
    let folder = Folder::demo();
    let listing = folder.read("granary.listing");
    let old: String = listing
        .lines()
        .filter(|line| !line.contains("Pier 88"))
        .map(|l| format!("{l}\n"))
        .collect();
    folder.write("old/granary.listing", old.replace("1742 (2019)", "Ebb (1999)"));
    let answer = folder.run("forecast Films --since old/granary.listing");
    assert!(answer.stdout.contains("Films: 2 new, 1 gone"), "{}", answer.stdout);
    let answer = json(&folder, "Films --since old/granary.listing");
    let since = &answer["libraries"][0]["since"];
    assert_eq!(since["new"].as_array().unwrap().len(), 2);
    assert_eq!(since["gone"][0]["title"], "Ebb");
}

#[test]
fn bad_questions_are_answered_with_a_way_out() {
    let folder = Folder::demo();
    for (arguments, says) in [
        ("forecast Filsm", "did you mean Films?"),
        ("forecast --as 840", "--from"),
        ("forecast --kind films", "NAME"),
        ("forecast --kind films nowhere", "nowhere does not exist"),
        ("forecast --media --problems", "--problems"),
        ("forecast Films --since millrace.listing --from host:granary", "--since"),
    ] {
        let answer = folder.run(arguments);
        assert_eq!(answer.code, 2, "{arguments}: {}", answer.stdout);
        assert!(answer.stderr.contains(says), "{arguments}: {}", answer.stderr);
    }
}

#[test]
fn names_that_are_no_utf8_are_counted_and_shown() {
    let folder = Folder::new();
    folder.write("films/A (2001)/x.txt", "x");
    let name = OsStr::from_bytes(b"Stra\xdfe (1999).mkv");
    std::fs::write(folder.path("films/A (2001)").join(name), "x").unwrap();
    let answer = json(&folder, "--kind films films --titles");
    assert_eq!(figures(&answer), [1, 1, 0, 0, 1]);
    let file = &answer["libraries"][0]["found"][0]["files"][0];
    assert!(
        file["path_bytes"].is_string() && file["path"].as_str().unwrap().contains('\u{fffd}'),
        "{file}"
    );
    let names = folder.run("check --names films --format json");
    let answer: Value = serde_json::from_str(&names.stdout).unwrap();
    assert_eq!(answer["findings"][0]["rule"], "name/not-utf8");
}

/// A second of silence.
fn wave() -> Vec<u8> {
    let mut bytes = b"RIFF\0\0\0\0WAVEfmt \x10\0\0\0".to_vec();
    for field in [1_u16, 1] {
        bytes.extend(field.to_le_bytes());
    }
    for field in [8000_u32, 16_000] {
        bytes.extend(field.to_le_bytes());
    }
    for field in [2_u16, 16] {
        bytes.extend(field.to_le_bytes());
    }
    bytes.extend(b"data");
    bytes.extend(16_000_u32.to_le_bytes());
    bytes.resize(bytes.len() + 16_000, 0);
    let size = (bytes.len() - 8) as u32;
    bytes[4..8].copy_from_slice(&size.to_le_bytes());
    bytes
}

#[test]
fn headers_are_read_once_and_kept() {
    let folder = Folder::new();
    folder
        .write("music/Low Tide Choir/Harbour/01 Ice.wav", wave())
        .write("music/Low Tide Choir/Harbour/02 Broken.wav", "RIFF")
        .write("music/Low Tide Choir/Harbour/cover.jpg", "x");
    let media = |answer: &Value| -> Vec<Value> {
        let found = &answer["libraries"][0]["found"][0];
        found["files"].as_array().unwrap().iter().map(|file| file["media"].clone()).collect()
    };
    let live = json(&folder, "--kind music music --titles --media");
    let silence = json!({
        "seconds": 1.0, "width": null, "height": null, "video": null, "audio": "pcm_s16le", "bits_per_second": 128_352
    });
    assert_eq!(media(&live), [silence.clone(), Value::Null]);
    let plain = json(&folder, "--kind music music --titles");
    assert!(plain["libraries"][0]["found"][0]["files"][0].get("media").is_none(), "{plain}");
    // Only what is older than this counts as known when a survey is renewed.
    std::thread::sleep(std::time::Duration::from_millis(2200));
    for kept in ["2 files read", "0 files read (0 bytes), 2 kept"] {
        let answer = folder.run("survey music -o box.survey --host box --media");
        assert!(answer.stdout.contains(&format!("headers: {kept}")), "{}", answer.stdout);
    }
    let top = folder.path("music");
    folder.write(
        "tarvek.toml",
        format!(
            "tarvek = 1\nsite = \"x\"\n[host.box]\nrole = \"storage\"\n[service.lantern]\nhost \
             = \"box\"\nrole = \"serve\"\n\
             runs_as = \"0:0\"\nlibraries = [{{ name = \"Music\", kind = \"music\", roots = [{:?}] \
             }}]\n",
            top.to_str().unwrap()
        ),
    );
    assert_eq!(media(&json(&folder, "--titles --media")), [silence, Value::Null]);
    // What a survey says of a codec reaches a terminal in one way only.
    let db = rusqlite::Connection::open(folder.path("box.survey")).unwrap();
    db.execute("UPDATE media SET audio = ?1", ["a\u{1b}[31m"]).unwrap();
    drop(db);
    let shown = folder.run("forecast --titles --media").stdout;
    assert!(shown.contains("a\\u{1b}[31m") && !shown.contains('\u{1b}'), "{shown}");
}
