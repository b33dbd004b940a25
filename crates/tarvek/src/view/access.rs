//! Who can do what, as text.

use std::fmt::Write;

use tarvek_core::access::{Need, Verdict};
use tarvek_core::identity::Subject;
use tarvek_core::library::Scan;
use tarvek_core::object::Object;
use tarvek_core::party::Party;
use tarvek_core::remedy::Remedy;
use tarvek_core::route::Evidence;
use tarvek_core::site::Site;
use tarvek_core::text::counted;
use unicode_width::UnicodeWidthStr;

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
        let tried = (verdict.evidence == Evidence::Proven).then_some("tried");
        let marks: Vec<&str> = verdict.errno.into_iter().chain(tried).collect();
        let errno =
            if marks.is_empty() { String::new() } else { format!(" ({})", marks.join(", ")) };
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

/// What would give what is refused, a command in a line.
pub(crate) fn remedy(remedy: &Remedy, needs: &[Need], below: bool, stage: &Stage) -> String {
    let words: Vec<&str> = needs.iter().map(|need| need.word()).collect();
    let below = if below { ", here and below" } else { "" };
    let mut out =
        format!("\n{}\n", strong(format!("this would allow it ({}{below}):", words.join(", "))));
    for step in &remedy.steps {
        let place = step.host.as_ref().map(|host| format!("on {host}: ")).unwrap_or_default();
        let _ = writeln!(out, "  {}{}", dim(place), step.command);
    }
    if remedy.effects.is_empty() {
        let _ = writeln!(out, "  {}", dim("it changes nothing for anyone else who is known here"));
    }
    for effect in &remedy.effects {
        let _ = writeln!(out, "  {}", dim(wrap(effect, &[], stage.width() - 2, "    ")));
    }
    out
}

/// One of everyone, and what he may do.
pub(crate) struct Row {
    pub(crate) party: Party,
    /// `None` if he does not see the place.
    pub(crate) verdicts: Option<Vec<Verdict>>,
}

impl Row {
    /// Who he is where the place is.
    pub(crate) fn arrives_as(&self) -> &Subject {
        arrives_as(&self.party)
    }

    /// The first refusal, in words.
    fn why(&self) -> String {
        let refused = self.verdicts.iter().flatten().find(|verdict| verdict.allowed != Some(true));
        refused.map_or_else(String::new, |verdict| {
            format!(
                "{}: {} on {}: {}",
                verdict.need.word(),
                verdict.decided_at.1,
                verdict.decided_at.0,
                verdict.reason
            )
        })
    }
}

fn arrives_as(party: &Party) -> &Subject {
    let step = party.route.as_ref().and_then(|route| route.trail.last());
    step.map_or(&party.subject, |step| &step.subject)
}

/// Everyone against one place.
pub(crate) fn table(place: &str, needs: &[Need], rows: &[Row], stage: &Stage) -> String {
    let mut out = format!("{}\n\n", strong(place));
    let cells = rows.iter().map(|row| {
        let verdicts = row.verdicts.as_ref();
        let answers = verdicts.map(|all| all.iter().map(|verdict| verdict.allowed).collect());
        (row.party.name.as_str(), row.arrives_as(), answers, row.why())
    });
    grid(&mut out, needs, cells.collect(), stage);
    out
}

type Cells<'a> = (&'a str, &'a Subject, Option<Vec<Option<bool>>>, String);

fn grid(out: &mut String, needs: &[Need], rows: Vec<Cells>, stage: &Stage) {
    let widest = rows.iter().map(|(name, ..)| name.width()).max().unwrap_or(0).clamp(3, 28);
    let identities = rows.iter().map(|(_, subject, ..)| subject.to_string().width());
    let wide = identities.max().unwrap_or(0).clamp(10, 30);
    let _ = write!(out, "  {:widest$}  {:wide$}", dim("who"), dim("arrives as"));
    for (n, need) in needs.iter().enumerate() {
        let width = if n + 1 < needs.len() { 8 } else { 0 };
        let _ = write!(out, "  {:width$}", dim(need.word()));
    }
    out.push('\n');
    for (name, subject, answers, why) in rows {
        let who = if answers.is_some() { subject.to_string() } else { "–".to_owned() };
        let _ = write!(out, "  {name:widest$}  {who:wide$}");
        match &answers {
            Some(answers) => answers.iter().enumerate().for_each(|(n, answer)| {
                let width = if n + 1 < answers.len() { 8 } else { 0 };
                let _ = write!(out, "  {:width$}", allowed(*answer));
            }),
            None => {
                let _ = write!(out, "  {}", dim("does not see it"));
            }
        }
        out.push('\n');
        if !why.is_empty() && stage.volume() != Volume::Quiet {
            let _ = writeln!(out, "    {}", dim(wrap(&why, &[], stage.width() - 4, "    ")));
        }
    }
}

/// Something that would be made, and what everyone could do with it.
pub(crate) struct Made<'a> {
    pub(crate) object: Object<'a>,
    pub(crate) users: Vec<(Party, Option<Vec<Verdict>>)>,
}

/// What new entries will be like.
#[expect(clippy::too_many_arguments, reason = "one page needs all of them")]
pub(crate) fn new_entries(
    site: &Site,
    typed: &str,
    host: &str,
    subject: &Subject,
    umask: u16,
    add: &Verdict,
    made: &[Made],
    stage: &Stage,
) -> String {
    let mut out = format!("{}\nas {subject}, umask {umask:04o}\n", strong(typed));
    if add.allowed != Some(true) {
        let words = format!(
            "it can't be made: {} on {}: {}",
            add.decided_at.1, add.decided_at.0, add.reason
        );
        let _ = writeln!(
            out,
            "  {} {}",
            allowed(add.allowed),
            wrap(&words, &[], stage.width() - 10, "          ")
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
                dim(wrap(&text, &[], stage.width() - 4 - what.len(), "    "))
            );
        }
        let rows = made.users.iter().map(|(party, verdicts)| {
            let answers = verdicts.as_ref().map(|all| all.iter().map(|v| v.allowed).collect());
            (party.name.as_str(), arrives_as(party), answers, String::new())
        });
        grid(&mut out, Need::of_made(object), rows.collect(), stage);
    }
    out
}
