//! The demo site: what its commands say, and that it is written once and the same each time.

mod support;

use std::collections::BTreeMap;
use std::path::Path;

use support::Folder;

#[test]
fn the_demo_gives_the_same_bytes_twice_and_anywhere() {
    let folder = Folder::new();
    let first = folder.run("demo one");
    assert_eq!((first.code, first.stderr.as_str()), (0, ""));
    let again = folder.run("demo one");
    let elsewhere = folder.run("demo two/deeper");
    assert_eq!(first.stdout, again.stdout);
    assert_eq!(first.stdout, elsewhere.stdout);
    assert_eq!(files(&folder.path("one")), files(&folder.path("two/deeper")));
    let steps = first.stdout.lines().filter(|line| line.starts_with("$ tarvek ")).count();
    assert_eq!(steps, 31);
}

fn files(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut all = BTreeMap::new();
    let mut todo = vec![folder.to_owned()];
    while let Some(here) = todo.pop() {
        for entry in std::fs::read_dir(here).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                todo.push(path);
            } else if path.ends_with("review.csv")
                || path.ends_with("journal")
                || path.ends_with("reclaimed")
            {
                // They say which files they are about.
                assert!(path.metadata().unwrap().len() > 0);
            } else {
                let name = path.strip_prefix(folder).unwrap().to_string_lossy().into_owned();
                all.insert(name, std::fs::read(&path).unwrap());
            }
        }
    }
    all
}

#[test]
fn the_demo_never_overwrites_what_somebody_changed() {
    let folder = Folder::new();
    folder.run("demo site");
    folder.edit("site/tarvek.toml", "Kestrel Hollow", "My own work");
    let answer = folder.run("demo site");
    assert_eq!(answer.code, 2);
    assert!(answer.stderr.contains("site/tarvek.toml is there already"), "{}", answer.stderr);
    assert!(folder.read("site/tarvek.toml").contains("My own work"));
}

#[test]
fn the_board() {
    insta::assert_snapshot!(Folder::demo().run("check").whole());
}

#[test]
fn the_board_with_everything_said() {
    insta::assert_snapshot!(Folder::demo().run("check -v").stdout);
}

#[test]
fn traces_of_every_library() {
    let folder = Folder::demo();
    let mut all = String::new();
    for path in [
        "/media/films",
        "/media/series",
        "/media/Music",
        "/media/photos",
        "/books",
        "/archive/reels",
    ] {
        let answer = folder.run(&format!("trace {path} --from service:lantern"));
        all += &format!("$ trace {path}\n{}\n", answer.whole());
    }
    insta::assert_snapshot!(all);
}

#[test]
fn a_drive_letter_is_traced_to_the_storage_host() {
    let folder = Folder::demo();
    let output = folder.output(["trace", r"M:\films\1742 (2019)", "--from", "client:parlour"]);
    insta::assert_snapshot!(String::from_utf8(output.stdout).unwrap());
}

#[test]
fn a_server_that_a_client_names_needs_no_drive_letter() {
    let folder = Folder::demo();
    for at in [None, Some(r#"at = "\\\\granary.lan\\media""#)] {
        if let Some(at) = at {
            folder.edit("tarvek.toml", r#"at = "M:""#, at);
        }
        let path = r"\\granary.lan\media\films";
        let output = folder.output(["trace", path, "--from", "client:parlour"]);
        let text = String::from_utf8(output.stdout).unwrap();
        assert!(
            text.starts_with(&format!("✓ {path} leads to granary:/loft/media/films")),
            "{text}"
        );
        // It is the mount's user who comes, whoever sits there.
        assert!(text.contains("as 1101:1101 +2100"), "{text}");
        let typed = folder.run("emit clients --host parlour").stdout;
        let drive = if at.is_none() { "M: " } else { "" };
        assert!(
            typed.contains(&format!(r"net use {drive}\\granary.lan\media /user:mira")),
            "{typed}"
        );
    }
}

#[test]
fn access_through_a_service() {
    let folder = Folder::demo();
    let mut all = String::new();
    for arguments in [
        "access /media/photos --from service:lantern",
        "access /data/films --from service:drover --need add,remove",
        "access /loft/media/photos --from host:granary --as oskar",
        "access /loft/media/films --from host:granary --as 1500:1500,2100 --need read",
    ] {
        all += &format!("$ {arguments}\n{}\n", folder.run(arguments).whole());
    }
    insta::assert_snapshot!(all);
}

#[test]
fn everything_below_is_summed_up_by_what_decides() {
    use std::os::unix::fs::PermissionsExt;
    let folder = Folder::demo();
    let media = folder.run("access /media --from service:lantern --below");
    assert_eq!(media.code, 1);
    for words in [
        "below: 15 of 59 entries can't be read",
        "6 entries on granary: other::---",
        "/loft/media/photos",
    ] {
        assert!(media.stdout.contains(words), "{}", media.stdout);
    }
    let films = folder.run("access /media/films --from service:lantern --below");
    assert_eq!(films.code, 0, "{}", films.stdout);
    assert!(films.stdout.contains("entries can be read"), "{}", films.stdout);
    let document = folder.json("access /media --from service:lantern --below");
    assert_eq!(document["below"]["causes"][0]["entries"], 9);

    // Live, and somebody else's.
    let folder = Folder::new();
    for name in ["a", "b", "c", "d", "e"] {
        folder
            .write(&format!("shelf/{name}/x.mkv"), "x")
            .write(&format!("shelf/{name}/y.mkv"), "y");
        std::fs::set_permissions(
            folder.path(&format!("shelf/{name}")),
            PermissionsExt::from_mode(0o755),
        )
        .unwrap();
    }
    let close = |name: &str, mode| {
        std::fs::set_permissions(folder.path(name), std::fs::Permissions::from_mode(mode)).unwrap();
    };
    close("", 0o755);
    close("shelf", 0o755);
    for name in ["a/x.mkv", "b/x.mkv", "c/x.mkv", "d/x.mkv"] {
        close(&format!("shelf/{name}"), 0o600);
    }
    close("shelf/e", 0o700);
    let document = folder.json("access shelf --as 71001:71001 --below");
    let below = &document["below"];
    assert_eq!(
        (below["entries"].as_u64(), below["unreadable"].as_u64()),
        (Some(15), Some(7)),
        "{below}"
    );
    assert_eq!(below["causes"][0]["entries"], 4);
    assert_eq!(below["causes"][0]["examples"].as_array().unwrap().len(), 3);
    assert_eq!(below["causes"][1]["entries"], 3, "a closed folder hides what it holds: {below}");
}
