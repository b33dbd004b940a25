//! One mapping of a parent folder in place of two of its children, with all paths that change by
//! it.

use crate::kernel::subject::Subject;
use crate::layout::intake::InView;
use crate::layout::mapping::{MapSource, Mapping};
use crate::layout::service::Service;
use crate::link::mount_placement::one_mount;
use crate::route::follow;
use crate::route::hops::View;
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::part::{Part, Side};
use crate::words::path::AbsPath;
use crate::words::remedy::Step;
use crate::words::terms::Access;
use crate::words::value::Value;

/// A site that was changed so that two folders of a service lie on one mount.
#[derive(Debug)]
pub struct OneMapping {
    /// The site with the changes made.
    pub site: Site,
    /// How to make them, in the layout and in earnest.
    pub steps: Vec<Step>,
    /// What else they change: a sentence each.
    pub effects: Vec<String>,
    /// The services that are changed.
    pub changed: Vec<Name>,
    /// The two folders under their new paths.
    pub from: AbsPath,
    pub to: AbsPath,
}

/// What a place inside a service becomes.
struct Moves(Vec<(AbsPath, AbsPath)>);

impl Moves {
    /// A path under its new name, if it changes.
    fn of(&self, path: &AbsPath) -> Option<AbsPath> {
        let (old, new) = self
            .0
            .iter()
            .filter(|(old, _)| path.within(old))
            .max_by_key(|(old, _)| old.as_bytes().len())?;
        let moved = new.join(path.below(old)?);
        (moved != *path).then_some(moved)
    }
}

/// One mapping for both folders of a service, where the host has them on one mount below one
/// folder. Services that fetch for it, and that named the same folders alike, are changed so that
/// they still do.
pub fn one_mapping(
    site: &Site,
    service: &Name,
    from: &AbsPath,
    to: &AbsPath,
) -> Option<OneMapping> {
    let sorter = site.layout.service(service)?;
    let view = View::service(service);
    let (subject, _) = site.subject_of(sorter);
    let mapping = |path: &AbsPath| {
        let index = follow(site, &view, path, &subject).mapping?;
        Some((index, sorter.maps().get(index)?))
    };
    let ((a, one), (b, other)) = (mapping(from)?, mapping(to)?);
    if a == b || one.idmap != other.idmap || one.label != other.label {
        return None;
    }
    // The one that stays is the one that can be written.
    let (kept, gone) = if one.access == Access::ReadWrite { (one, other) } else { (other, one) };
    let ((kept_from, kept_to), (gone_from, gone_to)) = (kept.folder()?, gone.folder()?);
    let parent = common(kept_from, gone_from).filter(|parent| !parent.is_root())?;
    let host = View::host(&sorter.host);
    let root = Subject::new(0, 0, []);
    let there = |path: &AbsPath| follow(site, &host, path, &root);
    let whole = there(&parent);
    let same = |path: &AbsPath| one_mount(site, &whole, &there(path));
    if !same(kept_from) || !same(gone_from) {
        return None;
    }
    let inside = place_for(sorter, &parent, kept, gone)?;
    let new_place = |source: &AbsPath| Some(inside.join(source.below(&parent)?));
    let mut edit = Edits {
        before: site,
        site: site.as_trial(),
        is_possible: true,
        steps: Vec::new(),
        line_words: Vec::new(),
        changed: Vec::new(),
    };
    // The one that goes may be where the other one is to come.
    edit.remove_mapping(sorter, gone);
    edit.mapping(sorter, kept, &parent, &inside);
    let moves = Moves(vec![
        (kept_to.clone(), new_place(kept_from)?),
        (gone_to.clone(), new_place(gone_from)?),
    ]);
    // What other mappings show keeps its name.
    let kept_names = |path: &AbsPath| {
        let at = follow(site, &view, path, &subject).mapping;
        at == Some(a) || at == Some(b)
    };
    edit.paths(site, sorter, &moves, kept_names);
    edit.container(sorter);
    edit.fetchers(site, sorter, &parent, &inside, &moves);
    let mut effects = Vec::new();
    if parent != *kept_from {
        effects.push(format!(
            "{service} can reach all of {parent} through it, as far as its account may"
        ));
    }
    if one.access != other.access {
        effects.push(format!(
            "{service} can then write {} as well, as far as its account may",
            one_of(one, other)
        ));
    }
    edit.is_possible.then(|| OneMapping {
        from: moves.of(from).unwrap_or_else(|| from.clone()),
        to: moves.of(to).unwrap_or_else(|| to.clone()),
        site: edit.site,
        steps: edit.steps,
        changed: edit.changed,
        effects,
    })
}

/// The source of the one that was mapped read-only.
fn one_of(one: &Mapping, other: &Mapping) -> String {
    let read_only = if one.access == Access::ReadOnly { one } else { other };
    read_only.folder().map(|(from, _)| from.to_string()).unwrap_or_default()
}

fn common(one: &AbsPath, other: &AbsPath) -> Option<AbsPath> {
    std::iter::successors(Some(one.clone()), AbsPath::parent).find(|above| other.within(above))
}

/// Where the service is to see the parent: where no path changes, if there is such a place; else
/// under a name that nothing has.
fn place_for(
    service: &Service,
    parent: &AbsPath,
    one: &Mapping,
    other: &Mapping,
) -> Option<AbsPath> {
    let without = |map: &Mapping| {
        let (from, to) = map.folder()?;
        let rest = from.below(parent)?;
        if rest.is_empty() {
            return Some(to.clone());
        }
        let prefix = to.as_bytes().strip_suffix(rest)?.strip_suffix(b"/")?;
        AbsPath::new(prefix).ok().filter(|prefix| !prefix.is_root())
    };
    let taken = |place: &AbsPath, but_own: bool| {
        service.maps().iter().any(|map| {
            let own = but_own && (std::ptr::eq(map, one) || std::ptr::eq(map, other));
            let clash = |to: &AbsPath| to.within(place) || place.within(to);
            !own && map.to.path.as_ref().is_ok_and(clash)
        })
    };
    // Both stay where they are, or one of them is the parent itself.
    let both = [one, other];
    let stays = |map: &Mapping, place: &AbsPath| {
        let folder = map.folder();
        folder.is_some_and(|(from, to)| {
            from.below(parent).map(|rest| place.join(rest)).as_ref() == Some(to)
        })
    };
    let is_parent = |map: &Mapping| map.folder().is_some_and(|(from, _)| from == parent);
    let unchanged = both.into_iter().filter_map(without).find(|place| {
        both.iter().all(|map| stays(map, place)) || both.iter().any(|map| is_parent(map))
    });
    if let Some(place) = unchanged.filter(|place| !taken(place, true)) {
        return Some(place);
    }
    let data = AbsPath::new(b"/data").ok();
    let named = parent.name().map(|name| AbsPath::root().child(name));
    data.into_iter().chain(named).chain([parent.clone()]).find(|place| !taken(place, false))
}

/// Changes of the layout, with the steps that make them.
struct Edits<'a> {
    before: &'a Site,
    site: Site,
    /// Whether every change could be made.
    is_possible: bool,
    steps: Vec<Step>,
    line_words: Vec<String>,
    changed: Vec<Name>,
}

impl Edits<'_> {
    /// Makes a change of the layout.
    fn make(&mut self, step: Step) {
        let made = step.edit().and_then(|edit| self.site.layout.edit(edit));
        self.is_possible &= made.is_some();
        self.steps.push(step);
    }

    fn set_path(&mut self, part: Part, key: &'static str, to: &AbsPath) {
        self.make(self.before.layout.set_path(part, key, to));
    }

    /// A mapping of a service shows another folder at another place.
    fn mapping(&mut self, service: &Service, map: &Mapping, from: &AbsPath, to: &AbsPath) {
        let MapSource::Folder(source) = &map.source else { return };
        let name = &service.name;
        let line = format!("{{ from = {:?}, to = {:?} }}", from.to_string(), to.to_string());
        let part = Part::mapping(name, &map.to.written);
        if source.path.as_ref() != Ok(from) {
            self.set_path(part.clone(), "from", from);
        }
        if map.to.path.as_ref() != Ok(to) {
            self.set_path(part, "to", to);
        }
        self.line_words.push(line);
    }

    fn remove_mapping(&mut self, service: &Service, map: &Mapping) {
        let part = Part::mapping(&service.name, &map.to.written);
        self.make(self.before.layout.remove(part, ""));
    }

    /// Every path by which the layout names a folder as a service sees it.
    fn paths(
        &mut self,
        site: &Site,
        service: &Service,
        moves: &Moves,
        moved: impl Fn(&AbsPath) -> bool,
    ) {
        let name = &service.name;
        let new = |path: &AbsPath| moves.of(path).filter(|_| moved(path));
        let mut changed = Vec::new();
        for library in &service.libraries {
            for root in &library.roots {
                if let Some(to) = root.path.as_ref().ok().and_then(&new) {
                    changed.push((root.written.clone(), to.clone()));
                    let (service, library) = (service.name.clone(), library.name.clone());
                    let part = Part::Root { service, library, root: root.written.clone() };
                    self.set_path(part, "", &to);
                }
            }
        }
        for translation in &service.translate {
            if let Some(to) = translation.to.path.as_ref().ok().and_then(&new) {
                let of = format!("{} (for {})", translation.to.written, translation.from.written);
                changed.push((of.into(), to));
            }
        }
        for other in &site.layout.services {
            for translation in &other.translate {
                let (side, key) = match (other.name == *name, translation.service == *name) {
                    (true, _) => (&translation.to, "to"),
                    (_, true) => (&translation.from, "from"),
                    _ => continue,
                };
                if let Some(to) = side.path.as_ref().ok().and_then(&new) {
                    self.set_path(Part::translation(&other.name, translation), key, &to);
                }
            }
        }
        for intake in &site.layout.intakes {
            let fetch = intake.fetch.iter().filter(|fetch| fetch.service == *name);
            let fetch = fetch.flat_map(|fetch| {
                let both = fetch.partial.iter().map(|at| ("partial", at));
                both.chain([("done", &fetch.done)]).map(|(key, at)| (Side::Fetch, key, at))
            });
            let sort = intake.sort.iter().filter(|sort| sort.service == *name);
            let sort = sort.flat_map(|sort| {
                let both = [("reads", &sort.reads), ("files_into", &sort.files_into)];
                both.map(|(key, at)| (Side::Sort, key, at))
            });
            for (side, key, at) in fetch.chain(sort) {
                if let Some(to) = new(&at.path) {
                    changed.push((at.path.to_string().into(), to.clone()));
                    let part = Part::IntakeSide { intake: intake.name.clone(), side };
                    self.set_path(part, key, &to);
                }
            }
        }
        changed.dedup();
        let list: Vec<String> =
            changed.iter().map(|(old, new)| format!("{old} becomes {new}")).collect();
        if !list.is_empty() {
            let words = format!("set the new paths in {name}: {}", list.join(", "));
            self.steps.push(Step::on(&service.host, words));
        }
    }

    fn container(&mut self, service: &Service) {
        self.changed.push(service.name.clone());
        let words =
            format!("recreate {}'s container with {}", service.name, self.line_words.join(" and "));
        self.line_words.clear();
        self.steps.push(Step::on(&service.host, words));
    }

    /// Those that fetch for a service still name the folders as it does.
    fn fetchers(
        &mut self,
        site: &Site,
        sorter: &Service,
        parent: &AbsPath,
        inside: &AbsPath,
        moves: &Moves,
    ) {
        let mut done: Vec<&Name> = Vec::new();
        for intake in &site.layout.intakes {
            let (Some(fetch), Some(sort)) = (&intake.fetch, &intake.sort) else { continue };
            let agreed = fetch.done.path.within(&sort.reads.path);
            if sort.service != sorter.name
                || fetch.service == sorter.name
                || !agreed
                || done.contains(&&fetch.service)
            {
                continue;
            }
            let (Some(fetcher), Some(new)) =
                (site.layout.service(&fetch.service), moves.of(&fetch.done.path))
            else {
                continue;
            };
            done.push(&fetcher.name);
            let translated = sorter.translate.iter().any(|translation| {
                translation.service == fetcher.name
                    && translation.from.path.as_ref().is_ok_and(|from| fetch.done.path.within(from))
            });
            if translated {
                continue;
            }
            if self.same_place(site, fetcher, &fetch.done, parent, inside) == Some(new.clone()) {
                continue;
            }
            self.translate(sorter, fetcher, &fetch.done, &new);
        }
    }

    /// Maps the folders of a fetching service where the sorting one sees them. Where its done
    /// folder then lies; `None` if that can't be.
    fn same_place(
        &mut self,
        site: &Site,
        fetcher: &Service,
        at: &InView,
        parent: &AbsPath,
        inside: &AbsPath,
    ) -> Option<AbsPath> {
        let view = View::service(&fetcher.name);
        let (subject, _) = site.subject_of(fetcher);
        let mapping = |path: &AbsPath| follow(site, &view, path, &subject).mapping;
        let index = mapping(&at.path)?;
        let map = fetcher.maps().get(index)?;
        let (from, old) = map.folder()?;
        let place = inside.join(from.below(parent)?);
        let clash = fetcher.maps().iter().enumerate().any(|(n, other)| {
            n != index
                && other.to.path.as_ref().is_ok_and(|to| to.within(&place) || place.within(to))
        });
        if clash {
            return None;
        }
        let moves = Moves(vec![(old.clone(), place.clone())]);
        self.mapping(fetcher, map, from, &place);
        self.paths(site, fetcher, &moves, |path| mapping(path) == Some(index));
        self.container(fetcher);
        moves.of(&at.path).or_else(|| Some(at.path.clone()))
    }

    fn translate(&mut self, sorter: &Service, fetcher: &Service, at: &InView, new: &AbsPath) {
        let (Some(from), Some(to)) = (Value::path(&at.path), Value::path(new)) else {
            self.is_possible = false;
            return;
        };
        let table = [("service", (&fetcher.name).into()), ("from", from), ("to", to)];
        let part = Part::Service(sorter.name.clone());
        self.make(self.before.layout.add(part, "translate", Value::table(table)));
        let words = format!("have {} take {} of {} for {new}", sorter.name, at.path, fetcher.name);
        self.steps.push(Step::on(&sorter.host, words));
    }
}
