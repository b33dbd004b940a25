//! Who can do what, as text.

use std::fmt::Write;

use tarvek_core::access::Verdict;
use tarvek_core::identity::Subject;
use tarvek_core::library::Scan;
use tarvek_core::text::counted;

use super::style::{allowed, dim, strong};
use super::wrap::wrap;
use super::{Stage, Volume};

/// The whole answer of `access`.
pub(crate) fn text(
    typed: &str,
    entry: Option<&str>,
    subject: &Subject,
    remark: Option<&str>,
    verdicts: &[Verdict],
    stage: &Stage,
) -> String {
    let mut out = String::new();
    let entry = entry.map(|entry| format!("   {entry}")).unwrap_or_default();
    let _ = writeln!(out, "{}{}", strong(typed), dim(entry));
    let remark = remark.map(|remark| format!("   ({remark})")).unwrap_or_default();
    let _ = writeln!(out, "as {subject}{}", dim(remark));
    out.push('\n');
    for verdict in verdicts {
        if stage.volume() == Volume::Quiet {
            let _ = writeln!(out, "  {:7} {}", verdict.need.word(), allowed(verdict.allowed));
            continue;
        }
        let _ = write!(out, "  {:7} {:8}", verdict.need.word(), allowed(verdict.allowed));
        let (host, place) = &verdict.decided_at;
        let indent = " ".repeat(20);
        let place = place.to_string();
        let errno = verdict.errno.map(|errno| format!(" ({errno})")).unwrap_or_default();
        let words = format!("{place} on {host}: {}{errno}", verdict.reason);
        let _ = writeln!(out, "  {}", wrap(&words, &[place], stage.width() - 20, &indent));
    }
    out
}

/// What of a whole tree can't be read, by what decides.
pub(crate) fn below(scan: &Scan, stage: &Stage) -> String {
    let all = counted(scan.entries, "entry");
    let mut out = String::new();
    let answer = match scan.unreadable {
        0 => format!("below: all of {all} can be read"),
        count => format!("below: {count} of {all} can't be read"),
    };
    let _ = writeln!(out, "\n{}", strong(answer));
    for cause in &scan.causes {
        let words =
            format!("{} on {}: {}", counted(cause.count, "entry"), cause.host, cause.reason);
        let _ = writeln!(out, "  {}", wrap(&words, &[], stage.width() - 2, "    "));
        for example in &cause.examples {
            let _ = writeln!(out, "      {}", dim(example.to_string()));
        }
    }
    if scan.unseen > 0 {
        let _ = writeln!(out, "  {} could not be looked into", counted(scan.unseen, "folder"));
        for example in &scan.unseen_examples {
            let _ = writeln!(out, "      {}", dim(example.to_string()));
        }
    }
    out
}
