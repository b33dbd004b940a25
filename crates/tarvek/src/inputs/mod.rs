//! From options to what a command works on: the layout that is meant, what was seen of its hosts,
//! and the question.

mod config;
mod files;
mod layout;
mod one_survey;
mod parts;
mod question;
mod surveys;
mod waste;

pub(crate) use config::{Configured, Following, configuration, running};
pub(crate) use files::{ignored, name_of, small_file, write_new};
pub(crate) use layout::twice;
pub(crate) use layout::{Found, LayoutFile, find_layout, layout, no_layout};
pub(crate) use one_survey::{listing, store_failure, survey};
pub(crate) use parts::Reading;
pub(crate) use question::{
    Opened, Query, Typed, asked, asked_for_two, folder_here, here, numbers, place, places_of, site,
    site_in_part, subject, usual_subject,
};
pub(crate) use waste::{LiveSite, ignored_file, review, waste_places};
