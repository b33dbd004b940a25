//! `tarvek access`.

use tarvek_core::access::{Need, Verdict, judge};
use tarvek_core::facts::tree::EntryKind;
use tarvek_core::identity::Subject;
use tarvek_core::library::below;
use tarvek_core::newfile::Making;
use tarvek_core::party;
use tarvek_core::remedy::{Wish, remedy};
use tarvek_core::route::{End, Route, View, follow};
use tarvek_core::site::Site;
use tarvek_core::text::shown;
use tarvek_host::observe::Depth;

use super::attempt;
use crate::cli::{AccessArgs, Format, Globals};
use crate::inputs::{self, Asked};
use crate::outcome::{Failure, Outcome};
use crate::view::{Stage, access, json};

pub(super) fn run(globals: &Globals, args: &AccessArgs, stage: &Stage) -> Result<Outcome, Failure> {
    let depth = if args.below { Depth::Everything } else { Depth::Names };
    let asked = inputs::asked(globals, args.from.as_deref(), &args.path, depth)?;
    let (subject, remark) = match &args.subject {
        Some(written) => inputs::subject(&asked.site, &asked.view, written)?,
        None => inputs::usual_subject(&asked),
    };
    let route = follow(&asked.site, &asked.view, &asked.path, &subject);
    if let End::Missing(_) = &route.end
        && judge(&asked.site, &route, Need::Read).errno == Some("ENOENT")
    {
        return Err(Failure::new(format!("{} does not exist: {}", asked.path, route.end.words())));
    }
    let question = Question { globals, args, asked: &asked, subject, remark, route, stage };
    if args.all {
        question.everyone()
    } else if args.new_file {
        question.new_file()
    } else {
        question.one()
    }
}

struct Question<'a> {
    globals: &'a Globals,
    args: &'a AccessArgs,
    asked: &'a Asked,
    subject: Subject,
    remark: Option<String>,
    route: Route,
    stage: &'a Stage,
}

impl Question<'_> {
    fn site(&self) -> &Site {
        &self.asked.site
    }

    fn kind(&self) -> Option<EntryKind> {
        let (step, node) = self.route.entry()?;
        Some(self.site().tree(&step.seen_on)?.meta(node).kind)
    }

    fn needs(&self) -> Vec<Need> {
        let kind = self.kind();
        match self.args.need.as_slice() {
            [] => Need::ALL
                .into_iter()
                .filter(|need| kind.is_none_or(|kind| need.applies_to(kind)))
                .collect(),
            asked => asked.iter().map(|need| (*need).into()).collect(),
        }
    }

    /// One subject.
    fn one(&self) -> Result<Outcome, Failure> {
        let asked = self.asked;
        let verdict = |need| judge(self.site(), &self.route, need);
        let mut verdicts: Vec<Verdict> = self.needs().into_iter().map(verdict).collect();
        if self.args.prove {
            if asked.view != View::Host(asked.own.clone()) {
                return Err(Failure::with_remedy(
                    format!(
                        "access can only be tried on this machine, and {} is another viewpoint",
                        asked.view
                    ),
                    "run it on the host itself, with its own path and --as",
                ));
            }
            attempt::prove(&asked.path, &self.subject, &mut verdicts)?;
        }
        let folder = self.kind() == Some(EntryKind::Folder);
        let below = (self.args.below && folder).then(|| below(self.site(), &self.route));
        // Without a need, it is reading that is asked for.
        let wanted: Vec<Need> = match self.args.need.as_slice() {
            [] => vec![Need::Read],
            needs => needs.iter().map(|need| (*need).into()).collect(),
        };
        let wish = Wish {
            view: &asked.view,
            path: &asked.path,
            subject: &self.subject,
            needs: &wanted,
            below: below.is_some(),
        };
        let remedy = remedy(self.site(), &wish);
        let text = match self.args.format {
            Format::Text => {
                let entry = self.route.hops.last().map(|hop| hop.note.as_str());
                let entry = entry.filter(|_| self.kind().is_some());
                let remark = self.remark.as_deref();
                let mut text = access::text(
                    &self.typed(),
                    entry,
                    &self.subject,
                    remark,
                    &verdicts,
                    self.stage,
                );
                if let Some(below) = &below {
                    text += &access::below(below, self.stage);
                }
                if let Some(remedy) = remedy.as_ref().filter(|_| !self.globals.quiet) {
                    text += &access::remedy(remedy, &wanted, below.is_some(), self.stage);
                }
                text
            }
            Format::Json => json::text(&json::Access::new(
                &asked.path,
                &self.subject,
                &verdicts,
                below.as_ref(),
                remedy.as_ref(),
            )),
        };
        self.stage.say(&text)?;
        let decisive = verdicts.iter().filter(|verdict| wanted.contains(&verdict.need));
        let mut answers: Vec<Option<bool>> = decisive.map(|verdict| verdict.allowed).collect();
        answers.extend(below.map(|below| match (below.unreadable, below.unseen) {
            (0, 0) => Some(true),
            (0, _) => None,
            _ => Some(false),
        }));
        Ok(outcome(&answers))
    }

    fn typed(&self) -> String {
        shown(self.args.path.as_encoded_bytes())
    }

    /// Everyone of the site.
    fn everyone(&self) -> Result<Outcome, Failure> {
        let (host, place) = self.route.here();
        let needs = self.needs();
        let parties = party::everyone(self.site(), &host, &place, self.globals.verbose);
        let rows: Vec<access::Row> = parties
            .into_iter()
            .map(|party| {
                let verdicts = party.may(self.site(), &needs);
                access::Row { party, verdicts }
            })
            .collect();
        let text = match self.args.format {
            Format::Text => access::table(&format!("{host}:{place}"), &needs, &rows, self.stage),
            Format::Json => json::text(&json::AccessAll::new(&host, &place, &rows)),
        };
        self.stage.say(&text)?;
        Ok(Outcome::Fine)
    }

    /// What is made there, and who can use it.
    fn new_file(&self) -> Result<Outcome, Failure> {
        let service = match &self.asked.view {
            View::Service(name) => self.site().layout.service(name),
            View::Host(_) => None,
        };
        let umask = self.args.umask.or_else(|| service?.umask).unwrap_or(0o022);
        let add = judge(self.site(), &self.route, Need::Add);
        let (host, place) = self.route.here();
        let made: Vec<access::Made> = [false, true]
            .into_iter()
            .filter_map(|folder| {
                let usual = Making::usual(folder, umask);
                // A program that asks for less for its files asks for the same, with search, for its folders.
                let asked = self.args.asks.map_or(usual.asked, |mode| {
                    if folder { mode | (mode & 0o444) >> 2 } else { mode }
                });
                let object = self.route.new_entry(self.site(), Making { asked, ..usual })?;
                let users = party::everyone(self.site(), &host, &place, self.globals.verbose);
                let users = users.into_iter().map(|party| {
                    let verdicts = party.could(self.site(), &object);
                    (party, verdicts)
                });
                Some(access::Made { users: users.collect(), object })
            })
            .collect();
        if made.is_empty() {
            return Err(Failure::new(format!(
                "{} is no folder that was seen: {}",
                self.asked.path,
                self.route.end.words()
            )));
        }
        let text = match self.args.format {
            Format::Text => access::new_entries(
                self.site(),
                &self.typed(),
                &host,
                &self.subject,
                umask,
                &add,
                &made,
                self.stage,
            ),
            Format::Json => json::text(&json::NewEntries::new(
                &self.asked.path,
                &self.subject,
                umask,
                &add,
                &made,
            )),
        };
        self.stage.say(&text)?;
        Ok(outcome(&[add.allowed]))
    }
}

fn outcome(answers: &[Option<bool>]) -> Outcome {
    if answers.contains(&Some(false)) {
        Outcome::Found
    } else if answers.contains(&None) {
        Outcome::Unanswered
    } else {
        Outcome::Fine
    }
}
