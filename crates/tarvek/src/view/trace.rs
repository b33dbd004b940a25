//! A route as text: one hop under the other, and where the way breaks.

use std::fmt::Write;

use tarvek_core::judge::verdict::Answer;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::route::end::End;
use tarvek_core::route::hops::{Hop, HopKind, Route, View};
use tarvek_core::route::known_as::KnownAs;
use tarvek_core::site::join::Site;
use tarvek_core::words::place::Place;
use unicode_width::UnicodeWidthStr;

use super::screen::{Screen, Volume};
use super::style::{broken, dim, doubt, sign, strong};
use super::wrap::wrap;

/// The whole answer of `trace`.
///
/// `read` is whether whoever asks can read what is there: a way that leads to something they can't
/// read is not all in order.
pub(crate) fn text(route: &Route, read: &Answer, remark: Option<&str>, screen: &Screen) -> String {
    let mut out = String::new();
    let shut = route.complete() && !read.is_allowed();
    let doubtful = shut || route.hops.iter().any(|hop| hop.doubt.is_some());
    let answer = if route.complete() && route.is_engine_made() {
        let own = "is the service's own: the engine makes it for what is mapped below it";
        format!("{} {own}", route.asked)
    } else if route.complete() {
        format!("{} leads to {}", route.asked, route.here())
    } else if let Some(absent) = route.not_mounted.first() {
        format!("{} leads nowhere it should: {} is not mounted", route.asked, absent.at.path)
    } else {
        format!("{} leads nowhere: {}", route.asked, route.end.words())
    };
    let unseen = matches!(route.end, End::Unseen { .. });
    let mark = sign(if unseen { None } else { Some(route.complete()) }, doubtful);
    let _ = writeln!(out, "{mark} {}", strong(answer));
    if screen.volume() == Volume::Quiet {
        return out;
    }
    let _ = writeln!(out, "\n{}, as {}", route.view, route.subject);
    if let Some(remark) = remark {
        let _ = writeln!(out, "{}", dim(format!("({remark})")));
    }
    let mut subject = &route.subject;
    for (n, hop) in route.hops.iter().enumerate() {
        let last = n + 1 == route.hops.len();
        hop_lines(&mut out, hop, subject, last, screen.width());
        subject = &hop.subject;
    }
    if shut {
        let can = if read.is_refused() { "can't read it" } else { "may not be able to read it" };
        let words = format!("{} {can}: {}: {}", route.subject, read.decided_at.on(), read.reason());
        let _ = writeln!(
            out,
            "\n{} {}",
            sign(read.allowed(), false),
            wrap(&words, &[], screen.width() - 2, "  ")
        );
    }
    out
}

fn hop_lines(out: &mut String, hop: &Hop, before: &Subject, last: bool, width: usize) {
    let (knot, line) = match (hop.broken, last) {
        (true, _) => ("✗", if last { " " } else { "│" }),
        (false, true) => ("└", " "),
        (false, false) => ("├", "│"),
    };
    let kind = if hop.kind == HopKind::Entry && !hop.note.starts_with("folder") {
        "entry"
    } else {
        hop.kind.word()
    };
    let knot = if hop.broken { broken(knot) } else { dim(knot) };
    let mode = match hop.kind {
        HopKind::Entry | HopKind::Symlink | HopKind::Volume => "  ",
        _ => hop.access.word(),
    };
    let same = hop.kind == HopKind::Dataset;
    let place = if same { String::new() } else { hop.to.to_string() };
    let _ = writeln!(out, "{knot} {:8} {mode}  {:8}  {place}", strong(kind), hop.evidence.word());
    let indent = format!("{line}{}", " ".repeat(24));
    let whole = [hop.from.path.to_string(), hop.to.path.to_string()];
    let note = wrap(&hop.note, &whole, width.saturating_sub(25), &indent);
    // The notes of the kinds that show no place of their own stand in the first line.
    if same {
        out.pop();
        let _ = writeln!(out, "{note}");
    } else {
        for piece in note.split('\n') {
            let piece = piece.strip_prefix(&indent).unwrap_or(piece);
            let text = if hop.broken { broken(piece) } else { dim(piece) };
            let _ = writeln!(out, "{}{}{text}", dim(line), " ".repeat(24));
        }
    }
    if let Some(words) = &hop.doubt {
        let _ = writeln!(out, "{}{}{}", dim(line), " ".repeat(24), doubt(format!("▲ {words}")));
    }
    // Capabilities that stay behind without a change of numbers are not worth a line.
    if hop.subject.to_string() != before.to_string() || hop.subject.doubt != before.doubt {
        let by = hop.changed_by.as_ref().map(|by| format!(" ({by})")).unwrap_or_default();
        let after = match &hop.subject.doubt {
            Some(_) => "somebody unknown".to_owned(),
            None => hop.subject.to_string(),
        };
        let changed = format!("{before} becomes {after}{by}");
        let changed = wrap(&changed, &[], width.saturating_sub(25), &indent);
        for piece in changed.split('\n') {
            let piece = piece.strip_prefix(&indent).unwrap_or(piece);
            let _ = writeln!(out, "{}{}{}", dim(line), " ".repeat(24), strong(piece));
        }
    }
}

/// The whole answer of `trace --to`: a line for each name, by who knows it.
pub(crate) fn backwards(site: &Site, place: &Place, names: &[KnownAs], screen: &Screen) -> String {
    let mut out = format!("{}\n", strong(format!("{place} is known as")));
    let who = |known: &KnownAs| match &known.view {
        View::Service(name) => {
            let host = site.layout.service(name).map(|service| &service.host);
            let on = host.map(|host| format!(" on {host}")).unwrap_or_default();
            format!("service {name}{on}")
        }
        View::Host(name) if known.is_client => format!("client {name}"),
        View::Host(name) => format!("host {name}"),
    };
    let lines: Vec<(String, &KnownAs)> = names.iter().map(|known| (who(known), known)).collect();
    let width = lines.iter().map(|(who, _)| who.width()).max().unwrap_or(0);
    for (who, known) in lines {
        let gap = " ".repeat(width - who.width());
        let path = &known.path;
        let mark = sign(Some(known.complete), false);
        let _ = writeln!(out, "  {mark} {who}{gap}  {}  {path}", known.access.word());
        if !known.complete && screen.volume() != Volume::Quiet {
            let absent = known.route.not_mounted.first();
            let why = match absent {
                Some(absent) => format!("{} is not mounted", absent.at.path),
                None => known.route.end.words(),
            };
            let indent = " ".repeat(width + 10);
            let _ = writeln!(
                out,
                "{indent}{}",
                dim(wrap(&why, &[], screen.width() - indent.len(), &indent))
            );
        }
    }
    out
}
