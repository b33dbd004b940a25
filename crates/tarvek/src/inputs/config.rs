//! Files of configuration that somebody named, each for its host.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use tarvek_core::facts::configured::Configuration;
use tarvek_core::words::grammar::{self, Naming};
use tarvek_core::words::name::Name;
use tarvek_core::words::secret::is_secret_name;
use tarvek_formats::config::recognise::{Format, recognise};
use tarvek_formats::config::{self, Around, File};
use tarvek_formats::mistake::Refused;
use tarvek_host::observe;
use tarvek_host::process::{Services, running as processes};

use super::files::{file_beneath, name_of, small_file};
use crate::outcome::Failure;

/// Folders are looked into no deeper.
const DEEPEST: usize = 12;

/// More files of a folder are not looked at.
const MOST_FILES: usize = 20_000;

/// What was read of the files of some hosts.
#[derive(Default)]
pub(crate) struct Configured {
    /// In the order in which they were named.
    pub(crate) hosts: Vec<(Name, Configuration)>,
    /// Which files, in which format, by host.
    pub(crate) files: Vec<(Name, Name, Format)>,
    /// Files of folders that are no configuration that is known, by host; files of variables belong
    /// to others.
    pub(crate) passed_over: Vec<(Name, Name)>,
    /// What runs in mounts of its own, and has no media in them.
    pub(crate) daemons: Vec<Name>,
    /// Files that are broken as a whole.
    pub(crate) refused: Vec<Refused>,
    /// What could not be read at all, or is no configuration that is known.
    pub(crate) failures: Vec<Failure>,
}

/// More files that others name are not read, nor more bytes of them.
const MOST_FOLLOWED: (u32, u64) = (1000, 64 << 20);

/// What files may name besides themselves.
#[derive(Debug, Default)]
pub(crate) struct Following {
    /// Folders, besides those that were named, below which other files are read.
    pub(crate) folders: Vec<PathBuf>,
    /// Whether variables of this environment count.
    pub(crate) environment: bool,
}

/// Reads files that others name.
struct Follower {
    folders: Vec<PathBuf>,
    environment: bool,
    /// What was read; each file is read once.
    read: RefCell<HashMap<PathBuf, Vec<u8>>>,
    /// How often something was read, and how many bytes that were.
    spent: Cell<(u32, u64)>,
}

impl Follower {
    /// `given`: folders that somebody named, and files, of which the folder counts.
    fn new<'p>(
        following: &Following,
        given: impl Iterator<Item = &'p Path>,
    ) -> Result<Self, Failure> {
        let mut folders = Vec::new();
        for folder in &following.folders {
            if !folder.is_dir() {
                return Err(Failure::with_remedy(
                    format!("--follow {}: there is no such folder", name_of(folder)),
                    "name a folder that files may lead into",
                ));
            }
            folders.push(std::path::absolute(folder)?);
        }
        for path in given {
            let path = std::path::absolute(path)?;
            let folder = if path.is_dir() { Some(path.as_path()) } else { path.parent() };
            folders.extend(folder.map(Path::to_owned));
        }
        let (read, spent) = (RefCell::default(), Cell::default());
        Ok(Self { folders, environment: following.environment, read, spent })
    }

    fn file(&self, path: &Path) -> Result<Vec<u8>, String> {
        let below = self.folders.iter().find_map(|folder| {
            let below = path.strip_prefix(folder).ok()?;
            Some((folder, below)).filter(|_| !below.as_os_str().is_empty())
        });
        let Some((folder, below)) = below else {
            return Err("it lies outside of what was named; --follow DIR allows that".to_owned());
        };
        let known = self.read.borrow().get(path).cloned();
        let bytes = match known {
            Some(bytes) => bytes,
            None => file_beneath(folder, below)?,
        };
        let (files, size) = self.spent.get();
        let spent = (files + 1, size + bytes.len() as u64);
        if spent.0 > MOST_FOLLOWED.0 || spent.1 > MOST_FOLLOWED.1 {
            let most = tarvek_core::words::text::bytes(MOST_FOLLOWED.1);
            return Err(format!(
                "more than {} files or {most} are named by others",
                MOST_FOLLOWED.0
            ));
        }
        self.spent.set(spent);
        self.read.borrow_mut().insert(path.to_owned(), bytes.clone());
        Ok(bytes)
    }

    /// A variable of whoever asks. Where home is says nothing about anybody.
    fn variable(&self, name: &str) -> Option<String> {
        let counts = name == "HOME" || self.environment && !is_secret_name(name);
        std::env::var(name).ok().filter(|_| counts)
    }

    /// Reads the files of a host.
    fn configuration(&self, files: &[(Format, File)]) -> (Configuration, Vec<Refused>) {
        let around =
            Around { read: &|path| self.file(path), variable: &|name| self.variable(name) };
        config::read(files, &around)
    }
}

/// Reads `[HOST:]PATH…`.
pub(crate) fn configuration(
    paths: &[OsString],
    following: &Following,
) -> Result<Configured, Failure> {
    let mut given = Vec::new();
    let mut read = Configured::default();
    let mut files: Vec<(Name, Vec<(Format, File)>)> = Vec::new();
    for written in paths {
        let (host, path) = parts(written)?;
        given.push(path.clone());
        let mut of_host = Vec::new();
        if path.is_dir() {
            let found = in_folder(&path)?;
            for file in found {
                match taken(&file) {
                    Ok(Some(file)) => of_host.push(file),
                    Ok(None) if file.to_string_lossy().ends_with(".env") => {}
                    Ok(None) => {
                        let name = file.to_string_lossy().as_ref().into();
                        read.passed_over.push((host.clone(), name));
                    }
                    Err(failure) => read.failures.push(failure),
                }
            }
            if of_host.is_empty() {
                read.failures.push(Failure::with_remedy(
                    format!("no file in {} is configuration that is known", name_of(&path)),
                    "name a folder of Compose files, fstab, exports, smb.conf, units, account \
                     files or the like",
                ));
            }
        } else {
            match taken(&path) {
                Ok(Some(file)) => of_host.push(file),
                Ok(None) => read.failures.push(Failure::with_remedy(
                    format!("{} is no configuration that is known", name_of(&path)),
                    "known are Compose files, container units, fstab, mount tables, mount units, \
                     exports, smb.conf, account files, container configuration, getfacl, zfs list, \
                     zfs get, net use and smb:// lines",
                )),
                Err(failure) => read.failures.push(failure),
            }
        }
        for (format, file) in &of_host {
            read.files.push((host.clone(), file.name.clone(), *format));
        }
        match files.iter_mut().find(|(known, _)| *known == host) {
            Some((_, known)) => known.extend(of_host),
            None => files.push((host, of_host)),
        }
    }
    let follower = Follower::new(following, given.iter().map(PathBuf::as_path))?;
    for (host, mut files) in files {
        without_parts(&mut files);
        let (configuration, refused) = follower.configuration(&files);
        read.hosts.push((host, configuration));
        read.refused.extend(refused);
    }
    Ok(read)
}

/// Where a machine keeps its configuration.
const PLACES: [&str; 8] = [
    "/etc/fstab",
    "/etc/exports",
    "/etc/exports.d",
    "/etc/samba/smb.conf",
    "/etc/passwd",
    "/etc/group",
    "/etc/subuid",
    "/etc/subgid",
];

/// Where its units are, of which only those that mount something are taken.
const UNITS: [&str; 2] = ["/etc/systemd/system", "/etc/containers/systemd"];

/// Reads what this machine keeps as configuration, and what runs on it in mounts of its own.
pub(crate) fn of_this_machine() -> Result<Configured, Failure> {
    let paths = PLACES.iter().map(|place| (Path::new(place), false));
    let mut named = Vec::new();
    for (place, units) in paths.chain(UNITS.iter().map(|place| (Path::new(place), true))) {
        if place.is_dir() {
            let files = in_folder(place)?;
            named.extend(files.into_iter().filter(|file| {
                let ending = file.extension().and_then(OsStr::to_str).unwrap_or_default();
                !units || matches!(ending, "mount" | "automount" | "container" | "volume" | "pod")
            }));
        } else if place.is_file() {
            named.push(place.to_owned());
        }
    }
    let own = observe::host_name();
    let mut read = Configured::default();
    let mut files = Vec::new();
    for file in named {
        match taken(&file) {
            Ok(Some((format, file))) => {
                read.files.push((own.clone(), file.name.clone(), format));
                files.push((format, file));
            }
            Ok(None) => {}
            Err(failure) => read.failures.push(failure),
        }
    }
    without_parts(&mut files);
    let follower =
        Follower::new(&Following::default(), files.iter().map(|(_, f)| f.path.as_path()))?;
    let (mut configuration, refused) = follower.configuration(&files);
    read.refused = refused;
    configuration.facts.extend(processes().configuration.facts);
    read.hosts.push((own, configuration));
    Ok(read)
}

/// Reads what runs on this machine in mounts of its own, as services.
pub(crate) fn running() -> Result<Configured, Failure> {
    let Services { configuration, others, unseen } = processes();
    let mut read = Configured { daemons: others, ..Configured::default() };
    if configuration.facts.is_empty() && unseen > 0 {
        let message = format!(
            "{unseen} processes may not be looked at, and none of the others has mounts of its own"
        );
        return Err(Failure::with_remedy(message, "ask as root"));
    }
    read.hosts.push((observe::host_name(), configuration));
    Ok(read)
}

impl Configured {
    /// With what was read elsewhere.
    pub(crate) fn add(&mut self, other: Self) {
        for (host, configuration) in other.hosts {
            match self.hosts.iter_mut().find(|(known, _)| *known == host) {
                Some((_, known)) => {
                    known.facts.extend(configuration.facts);
                    known.skipped.extend(configuration.skipped);
                    known.flaws.extend(configuration.flaws);
                }
                None => self.hosts.push((host, configuration)),
            }
        }
        self.files.extend(other.files);
        self.passed_over.extend(other.passed_over);
        self.daemons.extend(other.daemons);
        self.refused.extend(other.refused);
        self.failures.extend(other.failures);
    }
}

/// The host and the path of `[HOST:]PATH`. What is there as a whole is a path.
fn parts(written: &OsStr) -> Result<(Name, PathBuf), Failure> {
    let whole = PathBuf::from(written);
    let bytes = written.as_bytes();
    let cut = bytes.iter().position(|&b| b == b':').filter(|_| !whole.exists());
    let host = cut.and_then(|cut| std::str::from_utf8(&bytes[..cut]).ok());
    if let (Some(cut), Some(host)) = (cut, host)
        && !host.contains('/')
    {
        if let Some(fault) = grammar::fault(Naming::Thing, host) {
            let message = format!("{} is no name of a host: it {fault}", Name::from(host));
            return Err(Failure::with_remedy(message, Naming::Thing.rule()));
        }
        return Ok((host.into(), PathBuf::from(OsStr::from_bytes(&bytes[cut + 1..]))));
    }
    if !whole.is_dir() {
        return Ok((observe::host_name(), whole));
    }
    let last = std::fs::canonicalize(&whole)?;
    let name = last.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    match grammar::fault(Naming::Thing, &name) {
        None => Ok((name.into(), whole)),
        Some(_) => {
            let message =
                format!("the folder {} has no name that a host could have", name_of(&whole));
            Err(Failure::with_remedy(message, format!("say whose it is: HOST:{}", name_of(&whole))))
        }
    }
}

/// The regular files of a folder and those below, in an order that does not change; what a symlink
/// leads to is not among them.
fn in_folder(folder: &Path) -> Result<Vec<PathBuf>, Failure> {
    let mut files = Vec::new();
    let mut folders = vec![(folder.to_owned(), 0)];
    while let Some((folder, depth)) = folders.pop() {
        let cant = |error: std::io::Error| {
            Failure::new(format!("can't read {}: {error}", name_of(&folder)))
        };
        let mut entries = Vec::new();
        for entry in std::fs::read_dir(&folder).map_err(cant)? {
            entries.push(entry.map_err(cant)?);
        }
        // A file that overrides another comes after it.
        entries.sort_by_key(|entry| {
            let name = entry.file_name();
            (name.to_string_lossy().contains(".override."), name)
        });
        for entry in entries {
            let kind = entry.file_type().map_err(cant)?;
            if kind.is_dir() && depth < DEEPEST {
                folders.push((entry.path(), depth + 1));
            } else if kind.is_file() {
                files.push(entry.path());
            }
        }
        if files.len() > MOST_FILES {
            let message = format!("{} holds more than {MOST_FILES} files", name_of(&folder));
            return Err(Failure::with_remedy(message, "name the files themselves"));
        }
    }
    Ok(files)
}

/// A file with its format, if it has one.
fn taken(path: &Path) -> Result<Option<(Format, File)>, Failure> {
    let bytes = small_file(path)?;
    let absolute = std::path::absolute(path)?;
    let file = File::new(absolute, path.to_string_lossy().as_ref().into(), bytes);
    Ok(recognise(path, &file.text).map(|format| (format, file)))
}

/// Drops files that are only parts of others: what a Compose file extends or includes, and what
/// smb.conf includes. Of files that name each other in a circle the first stays.
fn without_parts(files: &mut Vec<(Format, File)>) {
    let mut seen = vec![false; files.len()];
    let named = |of: usize| files.iter().any(|other| names(other, &files[of]));
    let (mut first, circles): (Vec<usize>, Vec<usize>) = (0..files.len()).partition(|&n| !named(n));
    first.extend(circles);
    let mut kept = vec![false; files.len()];
    for root in first {
        if seen[root] {
            continue;
        }
        kept[root] = true;
        let mut ahead = vec![root];
        while let Some(at) = ahead.pop() {
            if !std::mem::replace(&mut seen[at], true) {
                ahead.extend((0..files.len()).filter(|&n| names(&files[at], &files[n])));
            }
        }
    }
    let mut kept = kept.into_iter();
    files.retain(|_| kept.next() == Some(true));
}

/// Whether a file names another one as a part of it.
fn names((of, file): &(Format, File), (format, part): &(Format, File)) -> bool {
    if of != format || file.path == part.path || !matches!(format, Format::Compose | Format::Smb) {
        return false;
    }
    let Some(name) = part.path.file_name().and_then(OsStr::to_str) else { return false };
    file.text.lines().any(|line| match format {
        Format::Smb => line.split_once('=').is_some_and(|(key, value)| {
            key.trim().eq_ignore_ascii_case("include") && value.trim().ends_with(name)
        }),
        _ => {
            let said = line.trim().trim_start_matches("- ").trim_matches(['"', '\'']);
            let value = said.strip_prefix("file:").or_else(|| said.strip_prefix("path:"));
            let value = value.unwrap_or(said).trim().trim_matches(['"', '\'']);
            value == name || value.strip_prefix("./") == Some(name)
        }
    })
}
