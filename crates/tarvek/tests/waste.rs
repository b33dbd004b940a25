//! `tarvek waste`, on files in a temporary folder.

mod support;

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::Path;
use std::time::{Duration, SystemTime};

use serde_json::Value;
use support::Folder;

/// So many bytes that no other seed has.
fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut hasher = blake3::Hasher::new();
    hasher.update(&seed.to_le_bytes());
    let mut bytes = vec![0; length];
    hasher.finalize_xof().fill(&mut bytes);
    bytes
}

fn waste(folder: &Folder, arguments: &str) -> Value {
    folder.json(&format!("waste {arguments}"))
}

/// Each group as its kind and `suggestion name`, sorted.
fn groups(waste: &Value) -> Vec<String> {
    let mut groups: Vec<String> = waste["groups"]
        .as_array()
        .unwrap()
        .iter()
        .map(|group| {
            let mut files: Vec<String> = group["files"]
                .as_array()
                .unwrap()
                .iter()
                .map(|file| {
                    let name = Path::new(file["path"].as_str().unwrap()).file_name().unwrap();
                    format!("{} {}", file["suggest"].as_str().unwrap(), name.to_str().unwrap())
                })
                .collect();
            files.sort();
            format!("{}: {}", group["kind"].as_str().unwrap(), files.join(", "))
        })
        .collect();
    groups.sort();
    groups
}

fn total(waste: &Value, name: &str) -> u64 {
    waste["totals"][name].as_u64().unwrap()
}

#[test]
fn equal_files_are_groups_and_nothing_else_is() {
    let folder = Folder::new();
    let large = noise(1, 3 << 20);
    let changed = |at: usize| {
        let mut bytes = large.clone();
        bytes[at] ^= 1;
        bytes
    };
    folder
        .write("d/Low Water (2003)/Low Water (2003).mkv", &large)
        .write("d/new/low.water.2003.mkv", &large)
        .write("d/start.bin", changed(0))
        .write("d/middle.bin", changed(large.len() / 3))
        .write("d/end.bin", changed(large.len() - 1))
        .write("d/a.bin", noise(2, 100))
        .write("d/b.bin", noise(2, 100))
        .write("d/c.bin", noise(3, 100))
        .write("d/empty", "")
        .write("d/empty too", "");
    fs::hard_link(folder.path("d/a.bin"), folder.path("d/b link.bin")).unwrap();
    symlink("a.bin", folder.path("d/symlink.bin")).unwrap();
    folder
        .write("d/.snapshots/1/a.bin", noise(2, 100))
        .write("d/.tarvek-held/000001", noise(2, 100));
    let found = waste(&folder, "d");
    assert_eq!(
        groups(&found),
        [
            "copy: drop b.bin, keep a.bin, keep b link.bin",
            "copy: drop low.water.2003.mkv, keep Low Water (2003).mkv",
        ]
    );
    let allocated = |name: &str| fs::metadata(folder.path(name)).unwrap().blocks() * 512;
    let back = allocated("d/new/low.water.2003.mkv") + allocated("d/b.bin");
    assert_eq!(total(&found, "reclaimable_bytes"), back);
    assert_eq!(total(&found, "files"), 10, "names of one file are one file");
    // All of two, of the others what shows that they differ: first bytes, a third, the last ones.
    let least = 2 * large.len() as u64 + 3 * 100;
    let read = total(&found, "bytes_read");
    assert!(read >= least && read < least + 2 * (1 << 20) + 100_000, "{read} of {least}");
}

#[test]
fn what_is_unchanged_is_never_read_again() {
    let folder = Folder::new();
    for n in 0..3 {
        folder
            .write(&format!("d/{n}.bin"), noise(1, 200_000))
            .write(&format!("d/x{n}"), noise(n, 9000));
    }
    let read = || {
        let found = waste(&folder, "d --cache cache");
        assert_eq!(groups(&found).len(), 1, "{found}");
        (total(&found, "bytes_read"), total(&found, "carried"))
    };
    let first = read().0;
    assert!((600_000..620_000 + 27_000).contains(&first), "{first}");
    assert_eq!(read(), (0, 0));
    // A new mode shows: a sample says that the contents are as they were.
    let mode = |mode| fs::set_permissions(folder.path("d/1.bin"), fs::Permissions::from_mode(mode));
    mode(0o600).unwrap();
    let (bytes, carried) = read();
    assert!(bytes <= 12_288 && carried == 1, "{bytes}");
    assert_eq!(read(), (0, 0));
    // So does a new name.
    fs::hard_link(folder.path("d/2.bin"), folder.path("d/2 link.bin")).unwrap();
    assert_eq!(read().1, 1);
    // Other contents under an old mtime do not: nothing shows why the ctime moved, and all of it is
    // read.
    let before = fs::metadata(folder.path("d/0.bin")).unwrap().modified().unwrap();
    let mut other = noise(1, 200_000);
    other[70_000] ^= 1;
    folder.write("d/0.bin", other);
    fs::File::options()
        .write(true)
        .open(folder.path("d/0.bin"))
        .unwrap()
        .set_modified(before)
        .unwrap();
    let found = waste(&folder, "d --cache cache");
    assert_eq!(total(&found, "bytes_read"), 200_000);
    assert_eq!(groups(&found), ["copy: drop 1.bin, keep 2 link.bin, keep 2.bin"]);
}

#[test]
fn holes_are_not_read() {
    use std::os::unix::fs::FileExt;
    let folder = Folder::new();
    folder.write("d/none", "");
    for (name, zeros, at) in [("a", false, 512), ("b", true, 512), ("c", false, 513)] {
        let file = fs::File::create(folder.path(&format!("d/{name}.img"))).unwrap();
        file.set_len(40 << 30).unwrap();
        file.write_all_at(&noise(1, 4096), at << 20).unwrap();
        // Written zeros are what a hole is.
        if zeros {
            file.write_all_at(&[0; 1 << 20], 100 << 20).unwrap();
        }
    }
    let found = waste(&folder, "d --cache cache");
    assert_eq!(groups(&found), ["copy: drop b.img, keep a.img"]);
    assert!(total(&found, "bytes_read") < 4 << 20, "{}", total(&found, "bytes_read"));
    assert_eq!(total(&waste(&folder, "d --cache cache"), "bytes_read"), 0);
}

#[test]
fn leftovers_and_hollow_folders() {
    let folder = Folder::new();
    let old = SystemTime::now() - Duration::from_secs(9 * 86_400);
    folder
        .write("d/Low Water (2003)/Low Water (2003).mkv", noise(1, 900_000))
        .write("d/Low Water (2003)/low-water-sample.mkv", noise(2, 9000))
        .write("d/Low Water (2003)/High Water (1999).nfo", "x")
        .write("d/Low Water (2003)/Low Water (2003).en.srt", "x")
        .write("d/Low Water (2003)/poster.jpg", "x")
        .write("d/Low Water (2003)/Thumbs.db", "x")
        .write("d/packed/film.mkv", noise(3, 50_000))
        .write("d/packed/film.part1.rar", noise(4, 30_000))
        .write("d/packed/film.part2.rar", noise(5, 20_500))
        .write("d/papers/letters.zip", noise(6, 5000))
        .write("d/new.mkv.part", "x")
        .write("d/old.mkv.part", "x")
        .write("d/.Trash-1000/files/gone.mkv", noise(7, 100))
        .write("d/High Water (1999)/poster.jpg", "x")
        .write("d/High Water (1999)/@eaDir/thumb", "x")
        .write("d/lost+found/x", "x")
        .write("d/photos/cover.jpg", "y")
        .write("d/photos/day.jpg", "z");
    fs::create_dir_all(folder.path("d/hollow/deep/down")).unwrap();
    let part = fs::File::options().write(true).open(folder.path("d/old.mkv.part")).unwrap();
    part.set_modified(old).unwrap();
    fs::create_dir_all(folder.path("d/fresh")).unwrap();
    for name in [
        "High Water (1999)",
        "High Water (1999)/@eaDir",
        "hollow/deep/down",
        "hollow/deep",
        "hollow",
    ] {
        fs::File::open(folder.path(&format!("d/{name}"))).unwrap().set_modified(old).unwrap();
    }
    let found = folder
        .command(["waste", "d", "--kind", "leftover,hollow", "--format", "json"])
        .env_remove("TARVEK_NOW")
        .output()
        .unwrap();
    let found: Value = serde_json::from_slice(&found.stdout).unwrap();
    assert_eq!(
        groups(&found),
        [
            "hollow: drop @eaDir, drop High Water (1999), drop poster.jpg, drop thumb",
            "hollow: drop deep, drop down, drop hollow",
            "leftover: drop .Trash-1000, drop files, drop gone.mkv",
            "leftover: drop High Water (1999).nfo",
            "leftover: drop Thumbs.db",
            "leftover: drop low-water-sample.mkv",
            "leftover: drop old.mkv.part",
            "leftover: look film.part1.rar, look film.part2.rar",
            "leftover: look new.mkv.part",
        ]
    );
    assert_eq!(total(&found, "bytes_read"), 0);
    folder.write(
        "tarvek.toml",
        "tarvek = 1\nsite = \"x\"\n[waste]\nleftovers = [\"day.*\", \"papers/\"]\n",
    );
    let found = groups(&waste(&folder, "d --kind leftover"));
    for more in ["leftover: drop day.jpg", "leftover: drop letters.zip, drop papers"] {
        assert!(!found.contains(&more.to_owned()), "a layout of other hosts means nothing here");
    }
    let own = this_host();
    folder.write(
        "tarvek.toml",
        format!(
            "tarvek = 1\nsite = \"x\"\n[host.\"{own}\"]\nrole = \"storage\"\n[waste]\n\
                 leftovers = [\"day.*\", \"papers/\"]\n"
        ),
    );
    let found = groups(&waste(&folder, "d --kind leftover"));
    for more in ["leftover: drop day.jpg", "leftover: drop letters.zip, drop papers"] {
        assert!(found.contains(&more.to_owned()), "{found:?}");
    }
    assert!(folder.run("explain space/leftovers").stdout.contains("*.part"));
}

/// The name of this machine.
fn this_host() -> String {
    nix::sys::utsname::uname().unwrap().nodename().to_str().unwrap().to_owned()
}

/// A site of this machine with a library and an intake in the temporary folder.
fn site(folder: &Folder) {
    let (own, top) = (this_host(), folder.path("loft"));
    let top = top.canonicalize().unwrap();
    let top = top.to_str().unwrap();
    folder.write(
        "tarvek.toml",
        format!(
            "tarvek = 1\nsite = \"Kestrel Hollow\"\n[host.\"{own}\"]\nrole = \
             [\"storage\", \"apps\"]\n\
             [service.lantern]\nhost = \"{own}\"\nrole = \"serve\"\nruns_as = \"840:840\"\n\
             libraries = [{{ name = \"Films\", kind = \"films\", roots = [\"{top}/films\"], prefer \
             = \"at most 1080p\" }}]\n\
             [service.joiner]\nhost = \"{own}\"\nrole = [\"fetch\", \"sort\"]\nruns_as \
             = \"841:841\"\n\
             [intake.films]\nfetch = {{ service = \"joiner\", done = \"{top}/done\" }}\n\
             sort = {{ service = \"joiner\", reads = \"{top}/done\", files_into = \"{top}/films\" \
             }}\n"
        ),
    );
}

#[test]
fn a_copy_in_the_intake_should_be_a_link_unless_somebody_would_lose() {
    let folder = Folder::new();
    let film = "loft/films/Low Water (2003)/Low Water (2003).mkv";
    folder.write(film, noise(1, 5000)).write("loft/done/low.water.2003.mkv", noise(1, 5000));
    fs::set_permissions(folder.path(""), fs::Permissions::from_mode(0o755)).unwrap();
    site(&folder);
    let suggestions = || groups(&waste(&folder, "--kind unlinked"));
    assert_eq!(suggestions(), ["unlinked: keep Low Water (2003).mkv, link low.water.2003.mkv"]);
    // Where only the library's file is shut, the intake's is the one that stays.
    let mode = |name: &str, mode| {
        fs::set_permissions(folder.path(name), fs::Permissions::from_mode(mode)).unwrap()
    };
    mode(film, 0o600);
    assert_eq!(suggestions(), ["unlinked: keep low.water.2003.mkv, link Low Water (2003).mkv"]);
    // One is shut to the group, the other to everyone else.
    mode(film, 0o604);
    mode("loft/done/low.water.2003.mkv", 0o640);
    let found = waste(&folder, "--kind unlinked");
    assert_eq!(groups(&found).len(), 1);
    let file = &found["groups"][0]["files"][1];
    let why = file["why"].as_str().unwrap_or_default();
    assert!(file["suggest"] == "look" && why.contains("could no longer read it"), "{found}");
    assert_eq!(total(&found, "reclaimable_bytes"), 0);
}

#[test]
fn what_is_ignored_stays_ignored_and_filters_filter() {
    let folder = Folder::new();
    for (name, seed, length) in [("a", 1, 5000), ("b", 1, 5000), ("sub/c", 2, 90), ("sub/d", 2, 90)]
    {
        folder.write(&format!("d/{name}"), noise(seed, length));
    }
    let found = waste(&folder, "d");
    assert_eq!(groups(&found).len(), 2);
    for (filter, count) in [
        ("--at-least 1K", 1),
        ("--at-least 1", 2),
        ("--below d/sub", 1),
        ("--kind version", 0),
        ("--kind copy,hollow", 2),
        ("--library nowhere", 0),
    ] {
        assert_eq!(groups(&waste(&folder, &format!("d {filter}"))).len(), count, "{filter}");
    }
    let id = found["groups"][0]["id"].as_str().unwrap();
    folder.write("ignored", format!("# mine\n{id} /d/a\n"));
    let less = waste(&folder, "d --ignored ignored");
    assert_eq!((groups(&less).len(), total(&less, "ignored")), (1, 1));
    let all = waste(&folder, "d --ignored ignored --show-ignored");
    assert_eq!(
        all["groups"].as_array().unwrap().iter().filter(|group| group["ignored"] == true).count(),
        1
    );
    assert_eq!(groups(&all).len(), 2);
}

#[test]
fn nothing_is_promised_of_a_file_that_is_held_open_or_has_names_elsewhere() {
    let folder = Folder::new();
    folder.write("d/a", noise(1, 5000)).write("d/b", noise(1, 5000));
    let frees = || total(&waste(&folder, "d"), "reclaimable_bytes");
    assert!(frees() > 0);
    let open = fs::File::open(folder.path("d/b")).unwrap();
    let found = waste(&folder, "d");
    assert_eq!(total(&found, "reclaimable_bytes"), 0);
    let why = found["groups"][0]["files"][1]["why"].as_str().unwrap();
    assert!(why.contains(&format!("process {}) holds it open", std::process::id())), "{why}");
    drop(open);
    assert!(frees() > 0);
    // The one that gives nothing back is the one that stays.
    fs::hard_link(folder.path("d/b"), folder.path("elsewhere")).unwrap();
    assert_eq!(groups(&waste(&folder, "d")), ["copy: drop a, keep b"]);
    fs::hard_link(folder.path("d/a"), folder.path("elsewhere too")).unwrap();
    assert_eq!(frees(), 0);
}

#[test]
fn hostile_names_come_through_every_way_out() {
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt;
    let folder = Folder::new();
    let names: [&[u8]; 5] = [b"=1+1", b"a,\"b\"\n=2", b"\xff.bin", b"\x1b[2Jx", b"' -rf $(x)"];
    fs::create_dir(folder.path("d")).unwrap();
    for name in names {
        fs::write(folder.path("d").join(OsStr::from_bytes(name)), noise(1, 500)).unwrap();
    }
    let text = folder.run("waste d").stdout;
    assert!(
        !text.contains('\x1b') && text.contains("\\u{1b}[2Jx") && text.contains("\\xff.bin"),
        "{text}"
    );
    let answer = folder.run("waste d --review r.csv");
    assert_eq!(answer.code, 0, "{}", answer.stderr);
    let review = fs::read(folder.path("r.csv")).unwrap();
    assert!(review.windows(2).any(|pair| pair == b"\r\n"));
    let text = String::from_utf8(review).unwrap();
    assert!(text.starts_with("decision,group,kind,bytes,"), "{text}");
    for line in text.split("\r\n") {
        for cell in line.split(',') {
            assert!(!cell.trim_start_matches('"').starts_with(['=', '+', '@']), "{line}");
        }
    }
    // All of them are known again.
    let plan = folder.json("reclaim r.csv");
    let states: BTreeSet<&str> = plan["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|step| step["state"].as_str().unwrap())
        .collect();
    assert_eq!((plan["steps"].as_array().unwrap().len(), states), (4, BTreeSet::from(["planned"])));
    assert_eq!(folder.run("waste d --review r.csv").code, 2, "nothing is written over");
}

#[test]
fn bad_questions_are_answered_clearly() {
    let folder = Folder::new();
    folder.write("file", "x").write("no.cache", "something else");
    for (arguments, says) in [
        ("waste nowhere", "does not exist"),
        ("waste file", "is no folder"),
        ("waste", "name folders to look at"),
        ("waste . --cache no.cache", "not a cache file"),
        ("waste . --at-least many", "write a number of bytes"),
        ("reclaim nothing.csv", "there is no such file"),
        ("reclaim file", "there is no column decision"),
    ] {
        let answer = folder.run(arguments);
        assert_eq!(answer.code, 2, "{arguments}");
        assert!(answer.stderr.contains(says), "{arguments}: {}", answer.stderr);
    }
    folder.write(
        "tarvek.toml",
        "tarvek = 1\nsite = \"x\"\n[service.a]\nhost = \"b\"\nrole \
                                 = \"serve\"\nlibraries = [{ name = \"F\", kind = \"films\", roots \
                                 = [\"/f\"], prefer = \"best\" }]\n[host.b]\nrole = \"apps\"\n",
    );
    let answer = folder.run("waste");
    assert!(
        answer.code == 2
            && answer.stderr.contains("tarvek.toml:6")
            && answer.stderr.contains("at most LINES"),
        "{}",
        answer.stderr
    );
}

#[test]
fn surveys_are_compared_across_hosts_by_digest() {
    let folder = Folder::new();
    folder
        .write("one/a", noise(1, 5000))
        .write("two/b", noise(1, 5000))
        .write("two/c", noise(2, 5000));
    folder.run("survey one -o one.survey --host one --digests");
    folder.run("survey two -o two.survey --host two --digests");
    let found = waste(&folder, "--survey one.survey --survey two.survey");
    assert_eq!(groups(&found), ["copy: keep a, look b"]);
    assert_eq!((total(&found, "reclaimable_bytes"), total(&found, "bytes_read")), (0, 0));
    folder.run("survey two -o bare.survey --host two");
    let answer = folder.run("waste --survey one.survey --survey bare.survey");
    assert!(
        answer.stderr.contains("2 files of surveys may be equal to others"),
        "{}",
        answer.stderr
    );
}
