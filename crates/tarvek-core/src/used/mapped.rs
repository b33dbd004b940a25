//! What services map besides what their libraries and intakes lead through.

use crate::layout::mapping::{MapSource, Mapping};
use crate::layout::service::Service;
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::route::places;
use crate::site::join::Site;
use crate::words::path::AbsPath;

/// A mapping with the way through it.
#[derive(Debug)]
pub(crate) struct Mapped<'s> {
    pub mapping: &'s Mapping,
    /// To the mapping's target, as the service goes.
    pub route: Route,
}

/// The mappings of a service that may hold media and that neither a library nor an intake leads
/// through.
pub(crate) fn mapped<'s>(site: &'s Site, service: &'s Service) -> Vec<Mapped<'s>> {
    let view = View::service(&service.name);
    let (subject, _) = site.subject_of(service);
    let follow = |path: &AbsPath| follow(site, &view, path, &subject);
    let used: Vec<Option<usize>> =
        places::of_service(site, service).iter().map(|path| follow(path).mapping).collect();
    let all = service.maps().iter().enumerate();
    let all = all.filter(|(nth, map)| !used.contains(&Some(*nth)) && may_hold_media(service, map));
    let mapped = all.filter_map(|(_, mapping)| {
        let route = follow(mapping.to.path.as_ref().ok()?);
        let is_file = route.entry().is_some_and(|(end, node)| {
            site.tree(&end.seen_on).is_some_and(|tree| !tree.meta(node).is_folder())
        });
        (!is_file).then_some(Mapped { mapping, route })
    });
    mapped.collect()
}

/// Whether a mapping is neither of the system nor the service's own configuration.
fn may_hold_media(service: &Service, mapping: &Mapping) -> bool {
    match &mapping.source {
        MapSource::Share(_) => true,
        MapSource::Volume(_) => false,
        MapSource::Folder(from) => from.path.as_ref().is_ok_and(|from| {
            let is_config = service.config.as_ref().is_some_and(|config| from.within(config));
            !is_config && !from.is_of_the_system()
        }),
    }
}
