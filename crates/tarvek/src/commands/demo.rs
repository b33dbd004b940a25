//! `tarvek demo`: the Kestrel Hollow site, and the whole job on it, step by step.

use std::fs::{self, File};
use std::io;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, SystemTime};

use tarvek_core::facts::compare::compare;
use tarvek_core::waste::group::Decision;
use tarvek_core::words::text::shown;
use tarvek_formats::review::Row;

use crate::cli::{DemoArgs, Globals, When};
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::Screen;
use crate::view::style::{dim, strong};
use crate::view::wrap::wrap;

/// Every file of the demo is as old as this: 2026-10-11 06:30 UTC.
const MODIFIED: Duration = Duration::from_secs(1_791_700_200);

/// The commands judge as of this time, so that ages come out the same each time: 2026-11-22 08:00
/// UTC.
const JUDGED: i64 = 1_795_334_400;

/// The words of the walk: what is shown, the command, what to see.
const STEPS: &[(&str, &[&str], &str)] = &[
    (
        "Read the existing configuration",
        &["adopt", "conf/granary", "conf/millrace", "conf/parlour", "-o", "adopted.toml"],
        "Files as they lie on the three machines become a layout. What no file says is guessed, \
         and marked as a guess; what \
         can't be understood is named.",
    ),
    (
        "Check it",
        &["check", "--layout", "adopted.toml"],
        "Each finding points at the file and line that it comes from; the listings of both hosts, \
         which lie beside the layout, \
         say what is really there.",
    ),
    (
        "Every name of one folder",
        &["trace", "--layout", "adopted.toml", "--to", "granary:/loft/media/films"],
        "The map that one draws on paper: who knows the folder, under which path, and may write \
         there.",
    ),
    (
        "A layout that is right from the start",
        &["draft", "--brief", "wished.brief.toml"],
        "A short brief becomes datasets, folders, rights, shares and mappings, each with its \
         reason. What the club \
         really has grew by itself, and is looked at from here on.",
    ),
    (
        "The same as configuration",
        &["emit", "exports", "--host", "granary"],
        "Each part of a layout can be written out for the program that it is for; tarvek.toml is \
         what the club has.",
    ),
    (
        "A survey of the storage host",
        &["survey", "--from", "granary.listing", "-o", "granary.survey"],
        "A script collected the listing on granary, where nothing can be installed; now it is a \
         survey.",
    ),
    (
        "A survey of the application host",
        &["survey", "--from", "millrace.listing", "-o", "millrace.survey"],
        "On a host that runs tarvek itself, `tarvek survey -o FILE` looks for itself.",
    ),
    (
        "The readiness board",
        &["check"],
        "Each row is a library, each column a stage; the first ✗ in a row is where its way ends, \
         and below \
         stands what clears it.",
    ),
    (
        "The way of a healthy library",
        &["trace", "/media/films", "--from", "service:lantern"],
        "The service's path becomes a path of its host, then of the mount, the share and the \
         dataset; \
         each hop says how it is known.",
    ),
    (
        "A mapping that leads to the wrong folder",
        &["trace", "/books", "--from", "service:lantern"],
        "Nothing is broken, and yet it ends on millrace's own disk instead of granary's.",
    ),
    (
        "A folder in another letter case",
        &["trace", "/media/Music", "--from", "service:lantern"],
        "A person who looks through the share sees the folder; Linux does not.",
    ),
    (
        "A mount that is not there",
        &["trace", "/archive/reels", "--from", "service:lantern"],
        "The way falls through to the empty folder beneath the mount point.",
    ),
    (
        "A library that is greyed out",
        &["access", "/media/photos", "--from", "service:lantern", "--below"],
        "The mode's last digit decides, because lantern neither owns the folder nor is in keepers. \
         One ACL entry would \
         let it in, for what is there and what will come; nobody else's access changes.",
    ),
    (
        "The same library after that entry was added",
        &[
            "access",
            "/media/photos",
            "--from",
            "service:lantern",
            "--below",
            "--survey",
            "granary.mended.listing",
            "--survey",
            "millrace.survey",
        ],
        "granary.mended.listing was collected after the command had been run on granary.",
    ),
    (
        "Everyone against one folder",
        &["access", "/loft/media/films", "--from", "host:granary", "--all"],
        "Each account, service and client comes by its own way; the first refusal of each stands \
         below it.",
    ),
    (
        "What a download will be like, and who can use it",
        &["access", "/data/intake/done/films", "--from", "service:drover", "--new-file"],
        "The folder's setgid bit gives the group, drover's umask 002 lets the group write.",
    ),
    (
        "A download that is linked into its library",
        &[
            "link",
            "/data/intake/done/films/1742.2019.1080p.mkv",
            "/data/films/new.mkv",
            "--from",
            "service:joiner",
        ],
        "joiner sees intake and library through one mapping, and the group may write what drover \
         made.",
    ),
    (
        "One that is copied, though both folders lie in one dataset",
        &[
            "link",
            "/downloads/done/series/ferry.nine.s01e04.mkv",
            "/series",
            "--from",
            "service:gleaner",
        ],
        "Each mapping is a mount of its own. What would mend it was made on a copy of the layout, \
         and judged again.",
    ),
    (
        "One that the kernel refuses",
        &["link", "/data/intake/done/music", "/data/music", "--from", "service:joiner"],
        "piper's umask leaves its files to itself, and fs.protected_hardlinks keeps others from \
         linking them.",
    ),
    (
        "What each scan would find",
        &["forecast", "--titles", "Films", "Series"],
        "By the names that lantern can read: each film, and of each show the episodes.",
    ),
    (
        "Roots that are too deep, too high, or a heap",
        &["forecast", "--layout", "roots.toml"],
        "The same film counts once where the root is right; a root that covers everything takes \
         episodes and downloads for films.",
    ),
    (
        "What would be missed or misread there",
        &["forecast", "--layout", "roots.toml", "Attic", "--problems"],
        "With --renames FILE, names that would be found are proposed in a table; nothing is \
         renamed.",
    ),
    (
        "What the folk archive wastes",
        &["waste", "archive"],
        "Real files this time. Only what may be equal is read; headers say which version is the \
         better one.",
    ),
    (
        "A review, to be decided line by line",
        &["waste", "archive", "--review", "review.csv", "--quiet"],
        "A table for any spreadsheet: each name with keep, drop, link or ignore.",
    ),
    (
        "What was decided is done, and held",
        &["reclaim", "review.csv", "--yes"],
        "Each file is looked at again right before, copies byte by byte. Nothing is gone: it waits \
         in archive/.tarvek-held.",
    ),
    (
        "Everything put back",
        &["reclaim", "review.csv", "--undo", "--yes", "--quiet"],
        "After a crash --resume goes on, and this puts everything back as well.",
    ),
    ("Done once more", &["reclaim", "review.csv", "--yes", "--quiet"], "The same review, again."),
    (
        "Deleted for good",
        &["reclaim", "review.csv", "--purge", "--yes", "--quiet"],
        "Only if what was kept instead is still there.",
    ),
    ("What came back so far", &["reclaim", "--total"], "Of each library or folder, since when."),
    ("What a rule means", &["explain", "access/root-unreadable"], "Every finding has such a text."),
    (
        "No layout at all",
        &["access", "--quiet", "shelf/photos/opening-night.png"],
        "This asks about a real file of this machine, as whoever runs it.",
    ),
];

pub(super) fn run(globals: &Globals, args: &DemoArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let folder = &args.folder;
    write(folder)?;
    let program = std::env::current_exe()?;
    let color = match globals.color {
        When::Auto => screen.color_word(),
        When::Always => "always",
        When::Never => "never",
    };
    screen.say(&format!(
        "{}\n{}\n",
        strong("Kestrel Hollow: a storage host, an application host, and seven libraries"),
        dim(
            "Configuration, a layout, listings of both hosts and a few real files are written; the \
             commands run in their folder."
        )
    ))?;
    for (n, (title, arguments, see)) in STEPS.iter().enumerate() {
        let heading = format!("{}. {title}", n + 1);
        screen.say(&format!("\n{}\n$ tarvek {}\n", strong(heading), arguments.join(" ")))?;
        let output = Command::new(&program)
            .args(*arguments)
            .args(["--color", color])
            .env("TARVEK_NOW", JUDGED.to_string())
            // The running total of whoever tries this is theirs.
            .env("XDG_STATE_HOME", std::path::absolute(folder)?.join("state"))
            .current_dir(folder)
            .stdin(Stdio::null())
            .stderr(Stdio::inherit())
            .output()?;
        screen.say(&String::from_utf8_lossy(&output.stdout))?;
        // 1 says that something was found, which is what a demo is for.
        if !matches!(output.status.code(), Some(0 | 1)) {
            let message = format!("the step `tarvek {}` failed", arguments.join(" "));
            return Err(Failure::new(message));
        }
        let see = wrap(see, &[], screen.width() - 2, "  ");
        screen.say(&format!("{}\n", dim(format!("» {see}"))))?;
    }
    screen.say(&format!(
        "\n{}\n",
        strong("Now change tarvek.toml in that folder, and run `tarvek check` there again.")
    ))?;
    Ok(Outcome::Fine)
}

/// Writes the site. A file that is there already with other contents is somebody's work, and stays.
fn write(folder: &Path) -> Result<(), Failure> {
    let mut files: Vec<(String, Vec<u8>)> = vec![
        ("tarvek.toml".into(), include_bytes!("../demo/tarvek.toml").to_vec()),
        ("roots.toml".into(), include_bytes!("../demo/roots.toml").to_vec()),
        (
            "wished.brief.toml".into(),
            include_bytes!("../../../../examples/nfs.brief.toml").to_vec(),
        ),
        ("granary.listing".into(), include_bytes!("../demo/granary.listing").to_vec()),
        ("granary.mended.listing".into(), mended().into_bytes()),
        ("conf/granary/exports".into(), include_bytes!("../demo/conf/granary/exports").to_vec()),
        ("conf/granary/smb.conf".into(), include_bytes!("../demo/conf/granary/smb.conf").to_vec()),
        ("conf/granary/passwd".into(), include_bytes!("../demo/conf/granary/passwd").to_vec()),
        ("conf/granary/group".into(), include_bytes!("../demo/conf/granary/group").to_vec()),
        (
            "conf/granary/zfs-list.txt".into(),
            include_bytes!("../demo/conf/granary/zfs-list.txt").to_vec(),
        ),
        (
            "conf/granary/compose.yaml".into(),
            include_bytes!("../demo/conf/granary/compose.yaml").to_vec(),
        ),
        ("conf/millrace/fstab".into(), include_bytes!("../demo/conf/millrace/fstab").to_vec()),
        (
            "conf/millrace/compose.yaml".into(),
            include_bytes!("../demo/conf/millrace/compose.yaml").to_vec(),
        ),
        (
            "conf/millrace/lantern.env".into(),
            include_bytes!("../demo/conf/millrace/lantern.env").to_vec(),
        ),
        (
            "conf/parlour/drives.txt".into(),
            include_bytes!("../demo/conf/parlour/drives.txt").to_vec(),
        ),
        ("millrace.listing".into(), include_bytes!("../demo/millrace.listing").to_vec()),
    ];
    files.extend(shelf());
    files.extend(archive());
    for (name, contents) in &files {
        let path = folder.join(name);
        match fs::symlink_metadata(&path) {
            Ok(meta) if meta.is_file() && fs::read(&path)? == *contents => {}
            Ok(_) => {
                return Err(not_ours(&path));
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => return Err(cant_write(&path, &error)),
        }
    }
    for host in ["granary", "millrace"] {
        remove_survey(
            &folder.join(format!("{host}.survey")),
            &folder.join(format!("{host}.listing")),
        )?;
    }
    remove_adopted(folder)?;
    remove_reclaimed(folder)?;
    for (name, contents) in &files {
        let path = folder.join(name);
        write_file(&path, contents).map_err(|error| cant_write(&path, &error))?;
    }
    Ok(())
}

/// The storage host's listing after `setfacl -R -m u:lantern:rX,d:u:lantern:rX /loft/media/photos`.
fn mended() -> String {
    let listing = include_str!("../demo/granary.listing");
    let below = |line: &&str| line.contains(" - /loft/media/photos");
    let entry = |line: &str| {
        let path = &line[line.find(" - ").map_or(0, |at| at + 3)..];
        let lantern = "user:840";
        let lines: Vec<String> = if line.starts_with("|d") {
            let access =
                ["user::rwx", &format!("{lantern}:r-x"), "group::r-x", "mask::r-x", "other::---"];
            let default = access.map(|entry| format!("default:{entry}"));
            access.iter().map(ToString::to_string).chain(default).collect()
        } else {
            let access =
                ["user::rw-", &format!("{lantern}:r--"), "group::r--", "mask::r--", "other::---"];
            access.iter().map(ToString::to_string).collect()
        };
        let head = format!("|# file: {path}\n|# owner: 1101\n|# group: 2100\n");
        lines.iter().fold(head, |text, line| text + "|" + line + "\n") + "|\n"
    };
    let entries: String = listing.lines().filter(below).map(entry).collect();
    listing.replace("end tree\n", &format!("end tree\nsection acl\n{entries}end acl\n"))
}

/// A survey that says what the listing says is the demo's, and is made again.
fn remove_survey(survey: &Path, listing: &Path) -> Result<(), Failure> {
    if fs::symlink_metadata(survey).is_err() {
        return Ok(());
    }
    match (inputs::survey(survey), inputs::survey(listing)) {
        (Ok(survey_facts), Ok(facts)) if compare(&facts, &survey_facts).is_empty() => {
            fs::remove_file(survey).map_err(|error| cant_write(survey, &error))
        }
        _ => Err(not_ours(survey)),
    }
}

/// A layout that says what adopting says is the demo's, and is made again.
fn remove_adopted(folder: &Path) -> Result<(), Failure> {
    let adopted = folder.join("adopted.toml");
    if fs::symlink_metadata(&adopted).is_err() {
        return Ok(());
    }
    let again = adopted.with_extension("toml.again");
    let arguments = STEPS[0]
        .1
        .iter()
        .map(|word| if *word == "adopted.toml" { "adopted.toml.again" } else { word });
    let made = Command::new(std::env::current_exe()?)
        .args(arguments)
        .current_dir(folder)
        .stdin(Stdio::null())
        .output()?;
    let same = made.status.success() && fs::read(&again)? == fs::read(&adopted)?;
    if again.exists() {
        fs::remove_file(&again).map_err(|error| cant_write(&again, &error))?;
    }
    match same {
        true => fs::remove_file(&adopted).map_err(|error| cant_write(&adopted, &error)),
        false => Err(not_ours(&adopted)),
    }
}

/// What reclaiming left: a holding folder with nothing in it but its journal, the total, and the
/// review, if it says what it would say again.
fn remove_reclaimed(folder: &Path) -> Result<(), Failure> {
    let held = folder.join("archive/.tarvek-held");
    let held_files = fs::read_dir(&held).map_or(0, Iterator::count);
    if held_files > 1 {
        return Err(not_ours(&held));
    }
    let remove = |path: &Path| match fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(cant_write(path, &error)),
        _ => Ok(()),
    };
    let review = folder.join("review.csv");
    if fs::symlink_metadata(&review).is_ok() {
        let decided = inputs::review(&review)?;
        let suggested = |row: &Row| match (row.kind.as_str(), row.decision) {
            ("copy" | "version", Decision::Keep | Decision::Drop) => true,
            (_, decision) => decision == Decision::Drop,
        };
        if !decided.bad.is_empty() || !decided.rows.iter().all(suggested) {
            return Err(not_ours(&review));
        }
        remove(&review)?;
    }
    remove(&folder.join("state/tarvek/reclaimed"))?;
    if held_files > 0 {
        remove(&held.join("journal"))?;
        fs::remove_dir(&held).map_err(|error| cant_write(&held, &error))?;
    }
    Ok(())
}

fn not_ours(path: &Path) -> Failure {
    let name = shown(path.as_os_str().as_encoded_bytes());
    Failure::with_remedy(
        format!("{name} is there already, and is not the demo's"),
        "give another folder: tarvek demo DIR",
    )
}

fn cant_write(path: &Path, error: &io::Error) -> Failure {
    let name = shown(path.as_os_str().as_encoded_bytes());
    Failure::with_remedy(
        format!("can't write {name}: {error}"),
        "give another folder: tarvek demo DIR",
    )
}

fn write_file(path: &Path, contents: &[u8]) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    fs::write(path, contents)?;
    let modified = SystemTime::UNIX_EPOCH + MODIFIED;
    File::options().write(true).open(path)?.set_modified(modified)?;
    // A folder is as old as what was written into it last.
    path.parent().map_or(Ok(()), |folder| File::open(folder)?.set_modified(modified))
}

/// A small shelf of real files: a photo that opens, sound that plays, and text.
fn shelf() -> Vec<(String, Vec<u8>)> {
    let track = |n: u32, title: &str| {
        (format!("shelf/music/Low Tide Choir/Harbour Songs/{n:02} {title}.wav"), tone(220 * n))
    };
    vec![
        ("shelf/photos/opening-night.png".into(), picture()),
        track(1, "Slack Water"),
        track(2, "The Rope Walk"),
        (
            "shelf/books/Ines Tolland/The Weir at Kestrel.txt".into(),
            b"The weir at Kestrel was built twice, and the second time it held.\n".to_vec(),
        ),
    ]
}

/// The folk archive: recordings and films, of which some are there twice.
fn archive() -> Vec<(String, Vec<u8>)> {
    let of = |name: &str, contents: &[u8]| (format!("archive/{name}"), contents.to_vec());
    vec![
        of("recordings/The Weir Song (1962)/The Weir Song (1962).wav", &tone(330)),
        of("recordings/The Rope Walk (1958)/The Rope Walk (1958).wav", &tone(440)),
        of("inbox/weir-song.wav", &tone(330)),
        of("inbox/rope-walk - Copy.wav", &tone(440)),
        of("inbox/ferry-nine-s01e05.mkv.part", &tone(550)),
        of("inbox/Thumbs.db", b"thumbnails\n"),
        of(
            "films/The Salt Orchard (2011)/The Salt Orchard (2011) 720p.mkv",
            include_bytes!("../demo/archive/720.mkv"),
        ),
        of(
            "films/The Salt Orchard (2011)/The Salt Orchard (2011) 360p.mkv",
            include_bytes!("../demo/archive/360.mkv"),
        ),
        of("films/Lanterns of Vey (1998)/poster.png", &picture()),
    ]
}

/// A quarter of a second of one tone, as RIFF WAVE: 8 kHz, mono, 8 bits.
fn tone(hertz: u32) -> Vec<u8> {
    const RATE: u32 = 8000;
    let samples: Vec<u8> = (0..RATE / 4)
        .map(|n| if (n * hertz * 2 / RATE).is_multiple_of(2) { 144 } else { 112 })
        .collect();
    let length = samples.len() as u32;
    let mut wave = Vec::new();
    wave.extend(b"RIFF");
    wave.extend((36 + length).to_le_bytes());
    wave.extend(b"WAVEfmt ");
    wave.extend(16u32.to_le_bytes());
    wave.extend(1u16.to_le_bytes());
    wave.extend(1u16.to_le_bytes());
    wave.extend(RATE.to_le_bytes());
    wave.extend(RATE.to_le_bytes());
    wave.extend(1u16.to_le_bytes());
    wave.extend(8u16.to_le_bytes());
    wave.extend(b"data");
    wave.extend(length.to_le_bytes());
    wave.extend(samples);
    wave
}

/// The smallest picture: one grey pixel, as PNG (ISO/IEC 15948).
fn picture() -> Vec<u8> {
    const PIXEL: &[u8] = &[
        0x89, 0x50, 0x4e, 0x47, 13, 10, 0x1a, 10, 0, 0, 0, 13, 0x49, 0x48, 0x44, 0x52, 0, 0, 0, 1,
        0, 0, 0, 1, 8, 0, 0, 0, 0, 0x3a, 0x7e, 0x9b, 0x55, 0, 0, 0, 10, 0x49, 0x44, 0x41, 0x54,
        0x78, 0xda, 0x63, 0x68, 0, 0, 0, 0x82, 0, 0x81, 0xda, 0x45, 8, 0x3b, 0, 0, 0, 0, 0x49,
        0x45, 0x4e, 0x44, 0xae, 0x42, 0x60, 0x82,
    ];
    PIXEL.to_vec()
}
