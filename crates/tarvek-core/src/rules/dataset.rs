//! `dataset/*`: the filesystems that hold the media.

use super::{Rule, RuleId, Severity};
use crate::check::{Case, Finding, Where};
use crate::facts::HostFacts;
use crate::layout::{Dataset, Host, Kind, Os};
use crate::path::AbsPath;
use crate::route::{End, Evidence};
use crate::site::Site;
use crate::text::bytes;

/// Reading writes.
pub static ACCESS_TIMES: Rule = Rule {
    id: "dataset/access-times",
    severity: Severity::Note,
    title: "Every read is written down",
    means: "Access times are on for a dataset that holds media.",
    hurts: "Each scan of a library writes to every inode that it reads; disks that could sleep do not, and snapshots grow.",
    fix: "Turn them off: zfs set atime=off, or the mount option noatime. Nothing that serves media needs them.",
    example: "silo/media has atime=on, and a nightly scan of 40 000 files writes 40 000 inodes.",
};

/// Records that are too small for the files.
pub static RECORD_SIZE: Rule = Rule {
    id: "dataset/record-size",
    severity: Severity::Note,
    title: "Small records for large files",
    means: "A ZFS dataset with films or episodes has a record size below 1M.",
    hurts: "A film is cut into many more pieces than it needs: more metadata, more work for disks, worse compression.",
    fix: "Set recordsize=1M; what is written from then on has it.",
    example: "silo/media was made with the default of 128K.",
};

/// ACLs that do not outlive a chmod.
pub static ACL_LOST_ON_CHMOD: Rule = Rule {
    id: "dataset/acl-lost-on-chmod",
    severity: Severity::Risk,
    title: "A chmod throws ACLs away",
    means: "The dataset keeps NFSv4 ACLs, and aclmode=discard lets a chmod remove every entry that the mode does not show.",
    hurts: "Services and copying programs change modes all the time; one day a library is readable by its owner only.",
    fix: "Set aclmode=passthrough, or aclmode=restricted if a chmod should rather fail.",
    example: "A sorter copies a film and sets its mode to 0644: the entry for the server is gone.",
};

/// Names that are one for some and two for others.
pub static CASE_INSENSITIVE_MIX: Rule = Rule {
    id: "dataset/case-insensitive-mix",
    severity: Severity::Risk,
    title: "Services that tell cases apart use a dataset that does not",
    means: "The dataset takes upper and lower case for the same, and services on Linux use it.",
    hurts: "A service that makes Music and music gets one folder for both, renames that change only the case fail, and a path that \
            works here fails on any other filesystem.",
    fix: "Make a new dataset with casesensitivity=sensitive and move the media; it can't be changed later. SMB clients are \
          served well by it.",
    example: "silo/media was made with casesensitivity=insensitive for Windows clients.",
};

/// Little room.
pub static NEARLY_FULL: Rule = Rule {
    id: "dataset/nearly-full",
    severity: Severity::Risk,
    title: "A filesystem is nearly full",
    means: "More than 85 % of what it or its quota holds is taken; above 97 % it is a blocker.",
    hurts: "Downloads fail half way, copy-on-write filesystems become slow long before the end, and nothing can be deleted from a \
            full one without trouble.",
    fix: "Delete what is not needed, raise the quota, or add storage.",
    example: "/silo/media is at 91 %: the next season will not fit.",
};

/// A property of a ZFS dataset as the host's survey saw it.
pub(super) fn observed<'a>(facts: &'a HostFacts, dataset: &str, property: &str) -> Option<&'a str> {
    facts.document("zfs")?.text.lines().find_map(|line| {
        let mut words = line.split('\t');
        let here = words.next()? == dataset && words.next()? == property;
        if here { words.next() } else { None }
    })
}

/// Judges every dataset in which a library lies.
pub(super) fn judge_site(site: &Site, cases: &[Case], findings: &mut Vec<Finding>) {
    let mut seen: Vec<(String, AbsPath)> = Vec::new();
    let mut full: Vec<(String, String)> = Vec::new();
    for case in cases {
        let Some(route) = case.route.as_ref().filter(|route| route.end == End::Reached) else {
            continue;
        };
        let (host, path) = route.here();
        if let Some(facts) = site.facts(&host) {
            nearly_full(&host, facts, &path, case, &mut full, findings);
        }
        let Some(declared) = site.layout.host(&host) else { continue };
        let holds = |dataset: &&Dataset| path.within(&dataset.at);
        let dataset =
            declared.datasets.iter().filter(holds).max_by_key(|d| d.at.components().count());
        let Some(dataset) = dataset else { continue };
        let place = (host.clone(), dataset.at.clone());
        if seen.contains(&place) {
            continue;
        }
        seen.push(place);
        let users: Vec<&Case> = cases
            .iter()
            .filter(|case| {
                let end =
                    case.route.as_ref().filter(|route| route.end == End::Reached).map(|r| r.here());
                end.is_some_and(|(h, path)| h == host && path.within(&dataset.at))
            })
            .collect();
        Judge { site, host: declared, dataset, users, findings }.all();
    }
}

struct Judge<'a> {
    site: &'a Site,
    host: &'a Host,
    dataset: &'a Dataset,
    /// The libraries that lie in it.
    users: Vec<&'a Case<'a>>,
    findings: &'a mut Vec<Finding>,
}

impl Judge<'_> {
    /// What a property is, as seen or, failing that, as declared.
    fn property(&self, name: &str) -> Option<(String, Evidence)> {
        let facts = self.site.facts(&self.host.name);
        if let Some(seen) = facts.and_then(|facts| observed(facts, &self.dataset.name, name)) {
            return Some((seen.to_owned(), Evidence::Observed));
        }
        let declared = self.dataset.properties.iter().find(|(property, _)| property == name);
        declared.map(|(_, value)| (value.clone(), Evidence::Declared))
    }

    fn add(&mut self, rule: RuleId, evidence: Evidence, message: String, remedy: String) {
        self.findings.push(Finding {
            rule,
            severity: rule.severity,
            evidence,
            subject: format!("host:{} dataset:{}", self.host.name, self.dataset.name),
            message,
            place: Where {
                host: Some(self.host.name.clone()),
                path: Some(self.dataset.at.clone()),
                line: Some(self.dataset.origin.line),
            },
            remedy,
            affects: self.users.iter().map(|case| case.affected()).collect(),
            effects: Vec::new(),
            because: None,
        });
    }

    fn all(mut self) {
        let name = self.dataset.name.clone();
        let host = self.host.name.clone();
        match self.property("atime") {
            Some((value, evidence)) if value == "on" => self.add(
                &ACCESS_TIMES,
                evidence,
                format!("{name} has atime=on"),
                format!("on {host}: zfs set atime=off {name}"),
            ),
            Some(_) => {}
            None => self.strict_times(),
        }
        let large = self
            .users
            .iter()
            .any(|case| matches!(case.library.kind, Kind::Films | Kind::Series | Kind::HomeVideo));
        if let Some((value, evidence)) = self.property("recordsize")
            && large
            && size(&value).is_some_and(|size| size < 1 << 20)
        {
            self.add(
                &RECORD_SIZE,
                evidence,
                format!("{name} holds large files and has recordsize={value}"),
                format!("on {host}: zfs set recordsize=1M {name}"),
            );
        }
        let nfs4 = self
            .property("acltype")
            .is_some_and(|(value, _)| matches!(value.as_str(), "nfsv4" | "nfs4"));
        if let Some((value, evidence)) = self.property("aclmode").filter(|_| nfs4)
            && value == "discard"
        {
            self.add(
                &ACL_LOST_ON_CHMOD,
                evidence,
                format!("{name} keeps NFSv4 ACLs and has aclmode=discard"),
                format!("on {host}: zfs set aclmode=passthrough {name}"),
            );
        }
        let linux = self.users.iter().find(|case| {
            let host = self.site.layout.host(&case.service.host);
            host.is_none_or(|host| host.os == Os::Linux)
        });
        if let (Some((value, evidence)), Some(case)) = (self.property("casesensitivity"), linux)
            && value == "insensitive"
        {
            let service = case.service.name.clone();
            self.add(
                &CASE_INSENSITIVE_MIX,
                evidence,
                format!("{name} takes upper and lower case for the same, and {service} on Linux uses it"),
                format!("on {host}: make a dataset with casesensitivity=sensitive, and move the media there"),
            );
        }
    }

    /// A filesystem that is no ZFS writes access times with the mount option strictatime; the kernel's default, relatime, is
    /// once a day at most.
    fn strict_times(&mut self) {
        let facts = self.site.facts(&self.host.name);
        let Some(table) = facts.and_then(|facts| facts.mounts.as_ref()) else { return };
        let Some(mount) = table.at(&self.dataset.at).filter(|m| !m.filesystem.ends_with("zfs"))
        else {
            return;
        };
        let quiet =
            mount.options.iter().any(|o| matches!(o.as_str(), "noatime" | "relatime" | "ro"));
        if !quiet {
            let at = mount.point.clone();
            self.add(
                &ACCESS_TIMES,
                Evidence::Observed,
                format!("{at} is mounted with access times for every read"),
                format!(
                    "on {}: mount -o remount,noatime {at}, and the same in fstab",
                    self.host.name
                ),
            );
        }
    }
}

/// `128K`, `1M`, `131072` as bytes.
fn size(text: &str) -> Option<u64> {
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let number: f64 = digits.parse().ok()?;
    let factor = match text[digits.len()..].chars().next() {
        None | Some('B') => 1.0,
        Some('K') => 1024.0,
        Some('M') => 1024.0 * 1024.0,
        Some('G') => 1024.0 * 1024.0 * 1024.0,
        Some(_) => return None,
    };
    Some((number * factor) as u64)
}

/// From `df -kP` (POSIX): the filesystem with the longest mount point above a path.
fn nearly_full(
    host: &str,
    facts: &HostFacts,
    path: &AbsPath,
    case: &Case,
    full: &mut Vec<(String, String)>,
    findings: &mut Vec<Finding>,
) {
    let Some(document) = facts.document("capacity") else { return };
    let lines = document.text.lines().skip(1).filter_map(|line| {
        let mut words = line.split_whitespace().rev();
        // A mount point with spaces can't be told from the columns before it.
        let point = AbsPath::new(words.next()?.as_bytes()).ok()?;
        let _percent = words.next()?;
        let available: u64 = words.next()?.parse().ok()?;
        let used: u64 = words.next()?.parse().ok()?;
        path.within(&point).then_some((point, used, available))
    });
    let Some((point, used, available)) =
        lines.max_by_key(|(point, _, _)| point.components().count())
    else {
        return;
    };
    let taken = used as f64 / (used + available).max(1) as f64;
    let place = (host.to_owned(), point.to_string());
    if taken <= 0.85 || full.contains(&place) {
        return;
    }
    full.push(place);
    findings.push(Finding {
        rule: &NEARLY_FULL,
        severity: if taken > 0.97 { Severity::Blocker } else { NEARLY_FULL.severity },
        evidence: Evidence::Observed,
        subject: format!("host:{host}"),
        message: format!(
            "{point} on {host} is full to {:.0} %: {} are left",
            taken * 100.0,
            bytes(available.saturating_mul(1024))
        ),
        place: Where { host: Some(host.to_owned()), path: Some(point.clone()), line: None },
        remedy: format!("delete what is not needed in {point}, raise its quota, or add storage"),
        affects: vec![case.affected()],
        effects: Vec::new(),
        because: None,
    });
}
