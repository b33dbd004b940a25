//! Who can do what, as text.

use std::fmt::Write;

use tarvek_core::access::Verdict;
use tarvek_core::identity::Subject;

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
        let indent = " ".repeat(19);
        let place = place.to_string();
        let errno = verdict.errno.map(|errno| format!(" ({errno})")).unwrap_or_default();
        let words = format!("{place} on {host}: {}{errno}", verdict.reason);
        let _ = writeln!(out, "  {}", wrap(&words, &[place], stage.width() - 19, &indent));
    }
    out
}
