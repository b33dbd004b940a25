//! Who can do what, as text.

use std::fmt::Write;

use tarvek_core::judge::everyone::Party;
use tarvek_core::judge::verdict::{Answer, Need};
use tarvek_core::kernel::object::Object;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::scan::read::Scan;
use tarvek_core::site::join::Site;
use tarvek_core::words::evidence::Evidence;
use tarvek_core::words::name::Name;
use tarvek_core::words::place::Place;
use tarvek_core::words::remedy::Remedy;
use tarvek_core::words::text::counted;
use tarvek_core::words::word::Word;
use unicode_width::UnicodeWidthStr;

use super::screen::{Screen, Volume};
use super::steps;
use super::style::{allowed, dim, strong};
use super::wrap::wrap;

/// The whole answer of `access`.
pub(crate) fn text(
    typed: &str,
    entry: Option<&str>,
    subject: &Subject,
    remark: Option<&str>,
    answers: &[Answer],
    screen: &Screen,
) -> String {
    let mut out = String::new();
    let entry = entry.map(|entry| format!("   {entry}")).unwrap_or_default();
    let _ = writeln!(out, "{}{}", strong(typed), dim(entry));
    let remark = remark.map(|remark| format!("   ({remark})")).unwrap_or_default();
    let _ = writeln!(out, "as {subject}{}", dim(remark));
    out.push('\n');
    for answer in answers {
        if screen.volume() == Volume::Quiet {
            let _ = writeln!(out, "  {:7} {}", answer.need.word(), allowed(answer.allowed()));
            continue;
        }
        let _ = write!(out, "  {:7} {:8}", answer.need.word(), allowed(answer.allowed()));
        let indent = " ".repeat(20);
        let tried = (answer.evidence == Evidence::Proven).then_some("tried");
        let marks: Vec<&str> = answer.errno().map(Word::word).into_iter().chain(tried).collect();
        let errno =
            if marks.is_empty() { String::new() } else { format!(" ({})", marks.join(", ")) };
        let words = format!("{}: {}{errno}", answer.decided_at.on(), answer.reason());
        let whole = answer.decided_at.path.to_string();
        let _ = writeln!(out, "  {}", wrap(&words, &[whole], screen.width() - 20, &indent));
    }
    out
}

/// What of a whole tree can't be read, by what decides.
pub(crate) fn below(scan: &Scan, screen: &Screen) -> String {
    let all = counted(scan.entries, "entry");
    let mut out = String::new();
    let answer = match (scan.unreadable, scan.all_readable()) {
        (0, Some(true)) => format!("below: all of {all} can be read"),
        (0, _) => format!("below: {all}, of which not all can be read"),
        (count, _) => format!("below: {count} of {all} can't be read"),
    };
    let _ = writeln!(out, "\n{}", strong(answer));
    for cause in &scan.causes {
        let words =
            format!("{} on {}: {}", counted(cause.count, "entry"), cause.host, cause.reason);
        let _ = writeln!(out, "  {}", wrap(&words, &[], screen.width() - 2, "    "));
        for example in &cause.examples {
            let _ = writeln!(out, "      {}", dim(example.to_string()));
        }
    }
    if scan.broken_links > 0 {
        let _ = writeln!(out, "  symlinks that lead nowhere: {}", scan.broken_links);
        for example in &scan.broken_examples {
            let _ = writeln!(out, "      {}", dim(example.to_string()));
        }
    }
    if scan.unseen > 0 {
        let _ = writeln!(out, "  places that could not be looked into: {}", scan.unseen);
        for example in &scan.unseen_examples {
            let _ = writeln!(out, "      {}", dim(example.to_string()));
        }
    }
    out
}

/// What would give what is refused, a command in a line.
pub(crate) fn remedy(
    remedy: &Remedy,
    needs: &[Need],
    below: bool,
    layout: &str,
    screen: &Screen,
) -> String {
    let words: Vec<&str> = needs.iter().map(|need| need.word()).collect();
    let below = if below { ", here and below" } else { "" };
    let mut out =
        format!("\n{}\n", strong(format!("this would allow it ({}{below}):", words.join(", "))));
    for line in steps::lines(remedy, layout, screen.width() - 2, &[], "    ") {
        let _ = writeln!(out, "  {line}");
    }
    if remedy.effects.is_empty() {
        let _ = writeln!(out, "  {}", dim("it changes nothing for anyone else who is known here"));
    }
    for effect in &remedy.effects {
        let _ = writeln!(out, "  {}", dim(wrap(effect, &[], screen.width() - 2, "    ")));
    }
    out
}

/// One of everyone, and what they may do.
pub(crate) struct PartyRow {
    pub(crate) party: Party,
    /// `None` if they do not see the place.
    pub(crate) answers: Option<Vec<Answer>>,
}

impl PartyRow {
    /// The first refusal in words that fit all whom it concerns alike.
    fn why(&self) -> Option<String> {
        let refused = self.answers.iter().flatten().find(|answer| !answer.is_allowed())?;
        let who = self.party.arrives_as().to_string();
        let reason = refused.reason().replace(&format!(" {who} "), " them ");
        Some(format!("{}: {}: {reason}", refused.need.word(), refused.decided_at.on()))
    }
}

/// Everyone against one place: the table whole, then each reason once, with those whom it concerns.
pub(crate) fn table(place: &Place, needs: &[Need], rows: &[PartyRow], screen: &Screen) -> String {
    let mut out = format!("{}\n\n", strong(place));
    grid(&mut out, needs, &rows.iter().collect::<Vec<_>>());
    if screen.volume() == Volume::Quiet {
        return out;
    }
    let mut reasons: Vec<(String, Vec<&str>)> = Vec::new();
    for row in rows {
        let Some(why) = row.why() else { continue };
        match reasons.iter_mut().find(|(known, _)| *known == why) {
            Some((_, who)) => who.push(&row.party.name),
            None => reasons.push((why, vec![&row.party.name])),
        }
    }
    if !reasons.is_empty() {
        out.push('\n');
    }
    for (why, who) in reasons {
        let _ = writeln!(out, "  {}", wrap(&why, &[], screen.width() - 2, "  "));
        let who = wrap(&who.join(", "), &[], screen.width() - 6, "      ");
        let _ = writeln!(out, "      {}", dim(who));
    }
    out
}

/// A line for each of them.
fn grid(out: &mut String, needs: &[Need], rows: &[&PartyRow]) {
    let names = rows.iter().map(|row| row.party.name.width());
    let widest = names.max().unwrap_or(0).clamp(3, 28);
    let identities = rows.iter().map(|row| row.party.arrives_as().to_string().width());
    let wide = identities.max().unwrap_or(0).clamp(10, 30);
    let _ = write!(out, "  {:widest$}  {:wide$}", dim("who"), dim("arrives as"));
    for (n, need) in needs.iter().enumerate() {
        let width = if n + 1 < needs.len() { 8 } else { 0 };
        let _ = write!(out, "  {:width$}", dim(need.word()));
    }
    out.push('\n');
    for row in rows {
        let (name, answers) = (&row.party.name, &row.answers);
        let who =
            if answers.is_some() { row.party.arrives_as().to_string() } else { "–".to_owned() };
        let _ = write!(out, "  {name:widest$}  {who:wide$}");
        match &answers {
            Some(answers) => answers.iter().enumerate().for_each(|(n, answer)| {
                let width = if n + 1 < answers.len() { 8 } else { 0 };
                let _ = write!(out, "  {:width$}", allowed(answer.allowed()));
            }),
            None => {
                let _ = write!(out, "  {}", dim("does not see it"));
            }
        }
        out.push('\n');
    }
}

/// Something that would be made, and what everyone could do with it.
pub(crate) struct NewEntryAnswer<'a> {
    pub(crate) object: Object<'a>,
    pub(crate) users: Vec<PartyRow>,
}

/// What new entries will be like.
#[expect(clippy::too_many_arguments, reason = "one page needs all of them")]
pub(crate) fn new_entries(
    site: &Site,
    typed: &str,
    host: &Name,
    subject: &Subject,
    umask: u16,
    add: &Answer,
    made: &[NewEntryAnswer],
    screen: &Screen,
) -> String {
    let mut out = format!("{}\nas {subject}, umask {umask:04o}\n", strong(typed));
    if !add.is_allowed() {
        let words = format!("it can't be made: {}: {}", add.decided_at.on(), add.reason());
        let _ = writeln!(
            out,
            "  {} {}",
            allowed(add.allowed()),
            wrap(&words, &[], screen.width() - 10, "          ")
        );
    }
    for made in made {
        let object = &made.object;
        let kind = object.meta.kind.word();
        let owner = site.owner_text(host, &object.meta);
        let _ = writeln!(
            out,
            "\n{}   {:04o} {owner}",
            strong(format!("a new {kind}")),
            object.meta.mode
        );
        let lists = [
            ("ACL", object.acl.as_ref().map(ToString::to_string)),
            ("default ACL", object.default_acl.as_ref().map(ToString::to_string)),
            ("NFSv4 ACL", object.nfs4.as_ref().map(ToString::to_string)),
        ];
        for (what, text) in lists.into_iter().filter_map(|(what, text)| Some((what, text?))) {
            let text = text.replace(',', ", ");
            let _ = writeln!(
                out,
                "  {what}: {}",
                dim(wrap(&text, &[], screen.width() - 4 - what.len(), "    "))
            );
        }
        grid(&mut out, Need::of_made(object), &made.users.iter().collect::<Vec<_>>());
    }
    out
}
