//! `tarvek access`.

use tarvek_core::judge::access_check::{absent, judge};
use tarvek_core::judge::everyone::everyone;
use tarvek_core::judge::made::new_entry;
use tarvek_core::judge::verdict::{Answer, Need};
use tarvek_core::kernel::entry::EntryKind;
use tarvek_core::kernel::new_entry::Making;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::remedy::access_request::{AccessRequest, remedy};
use tarvek_core::route::follow_written;
use tarvek_core::route::hops::{Route, View};
use tarvek_core::scan::read::below;
use tarvek_core::site::join::Site;
use tarvek_core::words::text::shown;
use tarvek_host::observe::Depth;

use super::attempt;
use crate::cli::{AccessArgs, Format, Globals};
use crate::inputs::{self, Query, Reading};
use crate::outcome::{Failure, Outcome};
use crate::view::{Screen, access, json};

pub(super) fn run(
    globals: &Globals,
    args: &AccessArgs,
    screen: &Screen,
) -> Result<Outcome, Failure> {
    let depth = if args.below { Depth::Everything } else { Depth::Names };
    // What is really tried is tried once.
    let whole = args.below || args.prove;
    let reading = if whole { Reading::Whole } else { Reading::InPart };
    let mut asked = inputs::asked(globals, args.from.as_deref(), &args.path, depth, reading)?;
    let (text, outcome) = asked.settled(|asked| {
        let (subject, remark) = match &args.subject {
            Some(written) => inputs::subject(&asked.site, &asked.view, written)?,
            None => inputs::usual_subject(asked),
        };
        let route = follow_written(&asked.site, &asked.view, &asked.written, &subject);
        if let Some(why) = absent(&asked.site, &route) {
            return Err(Failure::new(format!("{} does not exist: {why}", asked.path)));
        }
        let question = Question { globals, args, asked, subject, remark, route, screen };
        if args.all {
            Ok(question.everyone())
        } else if args.new_file {
            question.new_file()
        } else {
            question.one()
        }
    })?;
    screen.tell_partial(asked.site.partial());
    screen.say(&text)?;
    Ok(outcome)
}

struct Question<'a> {
    globals: &'a Globals,
    args: &'a AccessArgs,
    asked: &'a Query,
    subject: Subject,
    remark: Option<String>,
    route: Route,
    screen: &'a Screen,
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
        match self.args.need.as_slice() {
            [] => Need::of_kind(self.kind()),
            asked => asked.to_vec(),
        }
    }

    /// One subject.
    fn one(&self) -> Result<(String, Outcome), Failure> {
        let asked = self.asked;
        let answer = |need| judge(self.site(), &self.route, need);
        let mut answers: Vec<Answer> = self.needs().into_iter().map(answer).collect();
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
            answers = attempt::prove(&asked.written, &self.subject, answers)?;
        }
        let folder = self.kind() == Some(EntryKind::Folder);
        let below = (self.args.below && folder).then(|| below(self.site(), &self.route));
        // Without a need, it is reading that is asked for.
        let wanted: Vec<Need> = match self.args.need.as_slice() {
            [] => vec![Need::Read],
            needs => needs.to_vec(),
        };
        let wish = AccessRequest {
            view: &asked.view,
            path: &asked.written,
            subject: &self.subject,
            needs: &wanted,
            below: below.is_some(),
        };
        // What would change things for a process is told of the host's own paths; it has none.
        let remedy = match asked.process {
            Some(_) => None,
            None => remedy(self.site(), &wish),
        };
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
                    &answers,
                    self.screen,
                );
                if let Some(below) = &below {
                    text += &access::below(below, self.screen);
                }
                if let Some(remedy) = remedy.as_ref().filter(|_| !self.globals.quiet) {
                    let layout = &asked.layout.name;
                    text += &access::remedy(remedy, &wanted, below.is_some(), layout, self.screen);
                }
                text
            }
            Format::Json => json::text(
                &json::Access::new(
                    &asked.path,
                    &self.subject,
                    &answers,
                    below.as_ref(),
                    remedy.as_ref(),
                    &json::EditedLayout::new(&asked.layout, &self.site().layout),
                )
                .with_partial(self.site().partial()),
            ),
        };
        let decisive = answers.iter().filter(|answer| wanted.contains(&answer.need));
        let below = below.map(|scan| scan.all_readable());
        Ok((text, Outcome::of(&decisive.map(Answer::allowed).chain(below).collect::<Vec<_>>())))
    }

    fn typed(&self) -> String {
        match self.asked.path.as_client_writes() {
            Some(_) => self.asked.path.to_string(),
            None => shown(self.args.path.as_encoded_bytes()),
        }
    }

    /// Everyone of the site.
    fn everyone(&self) -> (String, Outcome) {
        let (place, needs) = (self.route.here(), self.needs());
        let rows: Vec<access::PartyRow> = everyone(self.site(), place, self.globals.verbose)
            .into_iter()
            .map(|party| access::PartyRow { answers: party.may(self.site(), &needs), party })
            .collect();
        let text = match self.args.format {
            Format::Text => access::table(place, &needs, &rows, self.screen),
            Format::Json => {
                json::text(&json::AccessAll::new(place, &rows).with_partial(self.site().partial()))
            }
        };
        (text, Outcome::Fine)
    }

    /// What is made there, and who can use it.
    fn new_file(&self) -> Result<(String, Outcome), Failure> {
        let service = match &self.asked.view {
            View::Service(name) => self.site().layout.service(name),
            View::Host(_) => None,
        };
        let umask = self.args.umask.or_else(|| service?.umask).unwrap_or(0o022);
        let add = judge(self.site(), &self.route, Need::Add);
        let place = self.route.here();
        let made: Vec<access::NewEntryAnswer> = [false, true]
            .into_iter()
            .filter_map(|folder| {
                let usual = Making::usual(folder, umask);
                // A program that asks for less for its files asks for the same, with search, for
                // its folders.
                let asked = self.args.asks.map_or(usual.asked, |mode| {
                    if folder { mode | (mode & 0o444) >> 2 } else { mode }
                });
                let object = new_entry(self.site(), &self.route, Making { asked, ..usual })?;
                let users = everyone(self.site(), place, self.globals.verbose)
                    .into_iter()
                    .map(|party| access::PartyRow {
                        answers: party.could(self.site(), &object),
                        party,
                    })
                    .collect();
                Some(access::NewEntryAnswer { users, object })
            })
            .collect();
        if let (true, Some(why)) = (made.is_empty(), self.route.doubt()) {
            let made = format!("what would be made in {} can't be told", self.asked.path);
            return Err(Failure::new(format!("{made}: {why}")));
        }
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
                &place.host,
                &self.subject,
                umask,
                &add,
                &made,
                self.screen,
            ),
            Format::Json => json::text(
                &json::NewEntries::new(&self.asked.path, &self.subject, umask, &add, &made)
                    .with_partial(self.site().partial()),
            ),
        };
        Ok((text, Outcome::of(&[add.allowed()])))
    }
}
