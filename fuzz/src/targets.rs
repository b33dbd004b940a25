//! What is done with spoiled input, and what has to hold then.

use std::io::Write as _;
use std::path::{Path, PathBuf};

use tarvek_core::adopt::adopt;
use tarvek_core::check::report::check;
use tarvek_core::draft::draft;
use tarvek_core::facts::host::Document;
use tarvek_core::forecast::filed::Shelf;
use tarvek_core::forecast::reading::language;
use tarvek_core::forecast::share_names::safe_name;
use tarvek_core::layout::site::Layout;
use tarvek_core::site::join::Site;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::secret::hide;
use tarvek_core::words::terms::Kind;
use tarvek_core::words::text::{is_unseen, shell_quoted, shown};
use tarvek_core::words::word::Word;
use tarvek_formats::config::recognise::{Format, recognise};
use tarvek_formats::config::{self, Around, File};
use tarvek_formats::ignored::Ignored;
use tarvek_formats::layout::extend::extend;
use tarvek_formats::{
    accounts, acl, brief, emit, fstab, host_report, layout, listing, mountinfo, review,
};
use tarvek_host::media::{MOST, facts};
use tarvek_host::store;

/// One reader, or what belongs together.
pub(crate) struct Target {
    pub(crate) name: &'static str,
    /// What is read well.
    pub(crate) samples: fn() -> Vec<Vec<u8>>,
    pub(crate) run: fn(&[u8]),
    /// Whether a library inside is known to panic, so that only the guard around it counts.
    pub(crate) may_panic_inside: bool,
}

macro_rules! samples {
    ($($file:literal),+ $(,)?) => {
        || vec![$(include_bytes!(concat!(env!("CARGO_MANIFEST_DIR"), "/../", $file)).to_vec()),+]
    };
}

const fn target(name: &'static str, samples: fn() -> Vec<Vec<u8>>, run: fn(&[u8])) -> Target {
    Target { name, samples, run, may_panic_inside: false }
}

pub(crate) const TARGETS: &[Target] = &[
    target(
        "layout",
        samples!("crates/tarvek/src/demo/tarvek.toml", "crates/tarvek/tests/data/every-key.toml"),
        read_layout,
    ),
    target(
        "brief",
        samples!(
            "examples/nfs.brief.toml",
            "examples/one-box.brief.toml",
            "examples/smb.brief.toml"
        ),
        read_brief,
    ),
    target("listing", listings, read_listing),
    target("survey", surveys, read_survey),
    target("tables", tables, read_tables),
    target("compose", samples!("crates/tarvek/src/demo/conf/millrace/compose.yaml"), read_compose),
    target(
        "config",
        samples!(
            "crates/tarvek/src/demo/conf/granary/exports",
            "crates/tarvek/src/demo/conf/granary/smb.conf",
            "crates/tarvek/src/demo/conf/millrace/fstab",
            "crates/tarvek/src/demo/conf/parlour/drives.txt",
        ),
        read_config,
    ),
    Target {
        name: "media",
        samples: samples!(
            "fuzz/samples/a.aac",
            "fuzz/samples/a.flac",
            "fuzz/samples/a.m4a",
            "fuzz/samples/a.mp3",
            "fuzz/samples/a.ogg",
            "fuzz/samples/a.opus",
            "fuzz/samples/a.spx",
            "fuzz/samples/a.wav",
            "fuzz/samples/a.wv",
            "fuzz/samples/v.mkv",
            "fuzz/samples/v.mp4",
            "fuzz/samples/v.webm",
        ),
        run: read_media,
        may_panic_inside: true,
    },
    target("review", reviews, read_review),
    target("names", names, |bytes| {
        read_names(bytes);
        hide_secrets(bytes);
    }),
];

fn read_layout(bytes: &[u8]) {
    let Ok(read) = layout::read("layout", bytes) else { return };
    let site = Site::join(read.clone(), Vec::new()).expect("there are no surveys to clash");
    for finding in check(&site).findings {
        let text = format!("{}{}", finding.message, finding.remedy);
        assert!(!text.contains('\x1b'), "{text:?}");
    }
    emit_layout(&read);
}

/// What is emitted stays in its folder and moves no terminal, and what is written is what was read.
fn emit_layout(read: &Layout) {
    for host in &read.hosts {
        for what in [
            emit::compose,
            emit::quadlet,
            emit::fstab,
            emit::systemd,
            emit::exports,
            emit::smb,
            emit::accounts,
            emit::script,
        ] {
            let Ok(pieces) = what(read, host, "layout") else { continue };
            for piece in pieces {
                let mut parts = piece.name.split('/');
                assert!(parts.all(|part| !matches!(part, "" | "." | "..")), "{:?}", piece.name);
                let odd = piece.text.chars().find(|c| is_unseen(*c) && *c != '\n');
                assert_eq!(odd, None, "{}", piece.text);
            }
        }
    }
    let written = layout::write(read, &|_| Vec::new());
    layout::read("written", written.as_bytes())
        .unwrap_or_else(|refused| panic!("{refused}\n{written}"));
}

fn read_brief(bytes: &[u8]) {
    let Ok(read) = brief::read("brief", bytes) else { return };
    let written = layout::write(&draft(&read).layout, &|_| Vec::new());
    layout::read("drafted", written.as_bytes()).expect("what is drafted can be read");
}

fn listings() -> Vec<Vec<u8>> {
    samples!("crates/tarvek/src/demo/granary.listing", "crates/tarvek/src/demo/millrace.listing")()
}

fn read_listing(bytes: &[u8]) {
    let Ok(facts) = listing::read("listing", bytes) else { return };
    Site::join(Layout::default(), vec![facts]).expect("one host cannot clash with itself");
}

fn surveys() -> Vec<Vec<u8>> {
    let folder = tempfile::tempdir().expect("a temporary folder can be made");
    let of = |(n, listing): (usize, Vec<u8>)| {
        let facts = listing::read("listing", &listing).expect("the demo's listing");
        let file = folder.path().join(n.to_string());
        store::save(facts, &file).expect("it can be saved");
        std::fs::read(file).expect("it is there")
    };
    listings().into_iter().enumerate().map(of).collect()
}

/// A file that should be a survey is loaded or refused, and stays as it was.
fn read_survey(bytes: &[u8]) {
    let folder = tempfile::tempdir().expect("a temporary folder can be made");
    let file = folder.path().join("host.survey");
    std::fs::write(&file, bytes).expect("it can be written");
    let _ = store::load(&file).map(|facts| facts.tree.len());
    let _ = store::LazySurvey::open(&file).is_ok();
    assert_eq!(std::fs::read(&file).expect("it is still there"), bytes);
}

/// The sections of a listing are what other programs print.
fn tables() -> Vec<Vec<u8>> {
    let mut tables = Vec::new();
    for listing in listings() {
        let text = String::from_utf8_lossy(&listing).into_owned();
        let mut section: Option<String> = None;
        for line in text.lines() {
            if line.starts_with("section ") {
                section = Some(String::new());
            } else if line.starts_with("end ") {
                tables.extend(section.take().map(String::into_bytes));
            } else if let Some(text) = &mut section {
                text.push_str(line.strip_prefix('|').unwrap_or(line));
                text.push('\n');
            }
        }
    }
    tables
}

fn read_tables(bytes: &[u8]) {
    if let Ok(table) = mountinfo::read(bytes) {
        for entry in table.entries() {
            let _ = (table.at(&entry.point), table.bind_source(entry), table.covers_itself(entry));
        }
        let _ = (table.root(), table.covered().count());
    }
    for line in fstab::read(bytes) {
        let _ = (line.at_boot(), line.options.access());
    }
    let (passwd, group) = bytes.split_at(bytes.len() / 2);
    let _ = accounts::read(passwd, group);
    let _ = acl::read(&String::from_utf8_lossy(bytes)).map(|acl| acl.to_string());
    let _ = AbsPath::of_client(bytes).map(|path| path.to_string());
    let names = [
        "capacity",
        "btrfs",
        "xfs",
        "zfs",
        "smb",
        "subuid",
        "subgid",
        "sysctl",
        "lacking",
        "exports",
        "units",
        "ports",
        "processes",
    ];
    let documents: Vec<Document> = names.iter().map(|name| Document::new(*name, bytes)).collect();
    let _ = host_report::read(&documents, mountinfo::read(bytes).ok().as_ref());
}

/// What was read becomes a layout that is one.
fn adopted(host: &str, format: Format, file: File, around: &Around) {
    let (configuration, _) = config::read(&[(format, file)], around);
    let adoption = adopt(&[(host.into(), configuration)], &Layout::default());
    if let Ok(written) = extend(None, &"S".into(), adoption) {
        layout::read("adopted", written.text.as_bytes()).expect("a layout");
    }
}

/// A Compose file, with whatever stands beside it: behind a NUL.
fn read_compose(bytes: &[u8]) {
    let mut parts = bytes.splitn(3, |&b| b == 0);
    let main = parts.next().unwrap_or_default().to_vec();
    let others: Vec<Vec<u8>> = parts.map(<[u8]>::to_vec).collect();
    let read = |path: &Path| {
        let at = path.as_os_str().len() % 2;
        others.get(at).cloned().ok_or_else(|| "there is none".to_owned())
    };
    let variable = |name: &str| name.len().is_multiple_of(2).then(|| "/v".to_owned());
    let around = Around { read: &read, variable: &variable };
    let file = File::new(PathBuf::from("/d/compose.yaml"), "compose.yaml".into(), main);
    adopted("millrace", Format::Compose, file, &around);
}

const FORMATS: [Format; 17] = [
    Format::Quadlet,
    Format::Unit,
    Format::Fstab,
    Format::Mounts,
    Format::Mountinfo,
    Format::Printed,
    Format::Lxc,
    Format::Exports,
    Format::Smb,
    Format::Passwd,
    Format::Group,
    Format::Subuid,
    Format::Subgid,
    Format::Folders,
    Format::Datasets,
    Format::Drives,
    Format::Urls,
];

/// Configuration of every format; its length says of which. A file that includes another one may
/// include itself.
fn read_config(bytes: &[u8]) {
    let file = File::new(PathBuf::from("/d/file"), "file".into(), bytes.to_vec());
    let told = recognise(&file.path, &file.text);
    let format = told.unwrap_or(FORMATS[bytes.len() % FORMATS.len()]);
    let left = std::cell::Cell::new(100);
    let read = |_: &Path| {
        left.set(left.get() - 1);
        (left.get() > 0).then(|| bytes.to_vec()).ok_or_else(|| "too many".to_owned())
    };
    adopted("granary", format, file, &Around { read: &read, variable: &|_| None });
}

/// Little is read of a header, whatever it holds.
fn read_media(bytes: &[u8]) {
    let mut file = tempfile::tempfile().expect("a temporary file can be made");
    file.write_all(bytes).expect("it can be written");
    let (media, read) = facts(file, bytes.len() as u64);
    assert!(read <= MOST);
    if let Some(media) = media {
        assert!(media.tracks > 0);
        let _ = media.bits_per_second(bytes.len() as u64);
    }
}

fn reviews() -> Vec<Vec<u8>> {
    let head = review::COLUMNS.join(",");
    let row = "drop,copy-0123456789ab,copy,9000,12288,2 files of equal \
               bytes,Films,granary,/loft/a.mkv,,/loft,,ext:0123,64512,12,\
               2026-11-26 17:00:16.123456789 UTC,2026-11-26 17:00:16.123456789 UTC,00ff,1280×720 \
               h264,60,abcdefghijklmnop";
    let text = format!("{head}\r\n{row}\r\n{}\r\n", row.replace("drop", "keep"));
    vec![text.replace(',', ";").into_bytes(), text.into_bytes()]
}

/// No path of a review leads anywhere but where it says.
fn read_review(bytes: &[u8]) {
    if let Ok(review) = review::read("review.csv", bytes) {
        for row in &review.rows {
            assert!(row.path.components().all(|part| part != b".." && part != b"."));
            let _ = review::seal(row);
        }
    }
    let ignored = Ignored::read(&String::from_utf8_lossy(bytes));
    assert_eq!(Ignored::read(&ignored.write()), ignored);
}

fn names() -> Vec<Vec<u8>> {
    let table = include_str!(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../crates/tarvek-core/tests/data/names.tsv"
    ));
    let name = |line: &str| line.split('\t').next().unwrap_or_default().as_bytes().to_vec();
    let names = table.lines().map(name).filter(|name| !name.is_empty());
    names.chain(samples!("crates/tarvek-core/tests/data/secrets.txt")()).collect()
}

fn read_names(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    let mut folders: Vec<String> = text.split('/').map(str::to_owned).collect();
    let name = folders.pop().unwrap_or_default();
    for kind in Kind::ALL {
        let shelf = Shelf::new(*kind, folders.clone());
        if let Ok(filed) = shelf.file(&name, bytes.len().is_multiple_of(2)) {
            assert!(!filed.title.is_empty() || name.is_empty());
        }
        shelf.agrees(&name);
    }
    let _ = language(&name);
    if let Some(safe) = safe_name(bytes) {
        assert_eq!(safe_name(&safe), None, "{:?}", String::from_utf8_lossy(&safe));
    }
}

/// Whatever stands before a secret, it is hidden, and lines stay lines.
fn hide_secrets(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    if text.contains("s3cret") {
        return;
    }
    let hidden = hide(&format!("{text}\npassword=s3cret\n"));
    assert!(!hidden.contains("s3cret"), "{hidden:?}");
    assert_eq!(hide(&text).lines().count(), text.lines().count());
    assert!(!shown(text.as_bytes()).chars().any(is_unseen));
    let quoted = shell_quoted(text.as_bytes());
    assert!(!quoted.trim_end_matches(['\n', '"']).chars().any(is_unseen));
}
