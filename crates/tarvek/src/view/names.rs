//! Names that break somewhere, as text.

use std::fmt::Write;

use tarvek_core::check::report::Report;
use tarvek_core::words::finding::Finding;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::{counted, shown};

use super::screen::{Screen, Volume};
use super::style::{dim, severity, sign};

/// The answer of `check --names`: what is wrong with each name below a folder, which was typed so
/// and is there.
pub(crate) fn text(report: &Report, folder: &[u8], top: &AbsPath, screen: &Screen) -> String {
    let mut out = String::new();
    let folder = shown(folder);
    let path = |finding: &Finding| finding.place.path.clone();
    let by_name: Vec<&[Finding]> =
        report.findings.chunk_by(|one, other| path(one) == path(other)).collect();
    let _ = match by_name.len() as u64 {
        0 => writeln!(
            out,
            "{} every name below {folder} can be told, shown and opened",
            sign(Some(true), false)
        ),
        count => writeln!(
            out,
            "{} {} below {folder} {} trouble",
            sign(Some(true), true),
            counted(count, "name"),
            if count == 1 { "makes" } else { "make" }
        ),
    };
    if screen.volume() == Volume::Quiet {
        return out;
    }
    for findings in by_name {
        let Some(place) = path(&findings[0]) else { continue };
        let _ = writeln!(out, "\n  {}", shown(place.below(top).unwrap_or(place.as_bytes())));
        for finding in findings {
            let why =
                finding.message.strip_prefix(&format!("{place}: ")).unwrap_or(&finding.message);
            let _ =
                writeln!(out, "    {}  {}  {}", severity(finding.severity), finding.rule.id, why);
        }
        let _ = writeln!(out, "    {}", dim(&findings[0].remedy));
    }
    out
}
