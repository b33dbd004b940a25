//! What every room speaks: paths, names, texts, terms, rules and findings. It imports nothing but
//! itself.

pub mod about;
pub mod errno;
pub mod evidence;
pub mod file_name;
pub mod finding;
pub mod grammar;
pub mod kind_names;
pub mod name;
pub mod offer;
pub mod options;
pub mod part;
pub mod path;
pub mod pattern;
pub mod place;
pub mod prefer;
pub mod remedy;
pub mod rule;
pub mod secret;
pub mod secret_key;
mod secret_line;
pub mod spot;
pub mod terms;
pub mod text;
pub mod value;
pub mod word;
