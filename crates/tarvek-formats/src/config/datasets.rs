//! What `zfs list` and `zfs get` print, as text or JSON (`zfs-list(8)`, `zfs-get(8)`).

use std::collections::HashMap;

use serde_json::Value;
use tarvek_core::facts::configured::{DatasetFact, Fact};
use tarvek_core::words::name::Name;
use tarvek_core::words::secret;
use tarvek_core::words::spot::Spot;

use super::collect::{Collect, number, spot};

/// Datasets of a host, put together from what several commands print.
#[derive(Default)]
pub(super) struct Datasets {
    all: Vec<(Spot, DatasetFact)>,
    places: HashMap<Name, usize>,
}

impl Datasets {
    fn dataset(&mut self, name: &str, spot: &Spot) -> &mut DatasetFact {
        let name = Name::from(name);
        let at = *self.places.entry(name.clone()).or_insert_with(|| {
            let fact =
                DatasetFact { name, at: None, filesystem: "zfs".into(), properties: Vec::new() };
            self.all.push((spot.clone(), fact));
            self.all.len() - 1
        });
        &mut self.all[at].1
    }

    fn property(&mut self, dataset: &str, name: &str, value: &str, spot: &Spot) {
        let (dataset, value) = (&secret::hide(dataset), &secret::hide(value));
        let fact = self.dataset(dataset, spot);
        if name == "mountpoint" {
            fact.at = value.starts_with('/').then(|| value.as_bytes().to_vec());
        } else if value != "-" && !fact.properties.iter().any(|(known, _)| known == name) {
            fact.properties.push((name.to_owned(), value.to_owned()));
        }
    }

    /// Takes a text: with a heading, or `-H`, in which a mount point says that it is a list.
    pub(super) fn take(&mut self, file: &Name, text: &str, out: &mut Collect) {
        out.open(file, text, "a list of datasets");
        if text.trim_start().starts_with('{') {
            return self.json(file, text, out);
        }
        let mut heading: Option<Vec<String>> = None;
        for (n, line) in text.lines().enumerate() {
            let at = spot(file, number(n));
            let tabs = line.contains('\t');
            let fields: Vec<&str> = match tabs {
                true => line.split('\t').map(str::trim).collect(),
                false => line.split_whitespace().collect(),
            };
            match fields[..] {
                [] | [""] => {}
                ["NAME", ..] => heading = Some(fields.iter().map(|f| f.to_lowercase()).collect()),
                [dataset, property, value, source]
                    if heading
                        .as_ref()
                        .is_none_or(|h| h.get(1).is_some_and(|h| h == "property"))
                        && is_source(source) =>
                {
                    self.property(dataset, property, value, &at);
                }
                // A value may have spaces in it; the columns after it are one word, or `inherited
                // from X`.
                [dataset, property, ..]
                    if heading
                        .as_ref()
                        .is_some_and(|h| h.get(1).is_some_and(|h| h == "property")) =>
                {
                    let inherited = line.find(" inherited from ");
                    let end = inherited.or_else(|| line.trim_end().rfind(char::is_whitespace));
                    let start = line.find(property).map_or(0, |at| at + property.len());
                    let value =
                        end.filter(|end| *end > start).map_or("", |end| line[start..end].trim());
                    self.property(dataset, property, value, &at);
                }
                [dataset, _, _, _, ..] => {
                    self.listed(dataset, &fields, heading.as_deref(), line, &at)
                }
                _ => out.skip(&at, "it is no line of `zfs list` or `zfs get`"),
            }
        }
    }

    fn listed(
        &mut self,
        dataset: &str,
        fields: &[&str],
        heading: Option<&[String]>,
        line: &str,
        at: &Spot,
    ) {
        let usual = ["name", "used", "avail", "refer", "mountpoint"].map(str::to_owned);
        let heading = heading.unwrap_or(&usual);
        for (n, name) in heading.iter().enumerate().skip(1) {
            let Some(value) = fields.get(n) else { continue };
            let value = match name == "mountpoint" && n + 1 == heading.len() {
                // The last column is a path, which may have spaces.
                true => line
                    .find(" /")
                    .or_else(|| line.find("\t/"))
                    .map_or(*value, |at| line[at..].trim()),
                false => value,
            };
            let name = match name.as_str() {
                "avail" => "available",
                "refer" => "referenced",
                "recsize" => "recordsize",
                name => name,
            };
            self.property(dataset, name, value, at);
        }
        self.dataset(&secret::hide(dataset), at);
    }

    fn json(&mut self, file: &Name, text: &str, out: &mut Collect) {
        let start = spot(file, 1);
        let tree: Value = match serde_json::from_str(text) {
            Ok(tree) => tree,
            Err(error) => {
                let at = spot(file, u32::try_from(error.line()).unwrap_or(1));
                return out.skip(&at, format!("this is no JSON: {error}"));
            }
        };
        let Some(datasets) = tree.get("datasets").and_then(Value::as_object) else {
            return out.skip(&start, "it has no `datasets`");
        };
        for (name, dataset) in datasets {
            let quoted = format!("\"{name}\"");
            let line = text.lines().position(|line| line.contains(&quoted)).map_or(1, number);
            let at = spot(file, line);
            self.dataset(name, &at);
            let properties = dataset.get("properties").and_then(Value::as_object);
            for (property, value) in properties.into_iter().flatten() {
                let value = value.get("value").unwrap_or(value);
                let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                self.property(name, property, &text, &at);
            }
        }
    }

    /// Tells all of them, once all files have been taken.
    pub(super) fn tell(self, out: &mut Collect) {
        for (spot, fact) in self.all {
            // Snapshots and bookmarks are no datasets of their own.
            if !fact.name.raw().contains(['@', '#']) {
                out.fact(&spot, Fact::Dataset(fact));
            }
        }
    }
}

fn is_source(text: &str) -> bool {
    matches!(text, "-" | "local" | "default" | "received" | "temporary" | "none")
        || text.starts_with("inherited from ")
}
