//! What questions cost that rest on large surveys: one path, a whole check, with everything in
//! order and with everything refused. Each figure stands beside the one that it is measured by,
//! taken in the same run.
//!
//! `TARVEK_BENCH_ENTRIES` (1 000 000 unless given) and `TARVEK_BENCH_ROUNDS` (5) say how much.
#![allow(clippy::print_stdout)] // it is what this program is for

use std::fmt::Write as _;

use support::{Cost, cost, is_copy, only_started, setting};

mod support;

const TARVEK: &str = env!("CARGO_BIN_EXE_tarvek");

fn main() {
    if is_copy() || only_started() {
        return;
    }
    let (entries, rounds) =
        (setting("TARVEK_BENCH_ENTRIES", 1_000_000), setting("TARVEK_BENCH_ROUNDS", 5));
    let scratch = tempfile::tempdir().expect("a temporary folder");
    let folder = scratch.path();
    let write = |name: &str, text: &str| std::fs::write(folder.join(name), text).expect("a file");
    let measured = |arguments: &str| {
        let arguments: Vec<&str> = arguments.split(' ').collect();
        let costs: Vec<Cost> = (0..rounds).map(|_| cost(folder, TARVEK, &arguments)).collect();
        Cost::median(&costs)
    };
    println!(
        "{entries} entries, medians of {rounds}\n\n| | CPU | wall | MiB | |\n|---|---|---|---|---|"
    );
    let told = |what: &str, cost: Cost, beside: Option<(&str, Cost)>| {
        let ratio = beside.map(|(of, other)| {
            format!(
                "{:.2} of the CPU, {:.2} of the memory of {of}",
                cost.cpu / other.cpu,
                cost.memory / other.memory
            )
        });
        let Cost { wall, cpu, memory } = cost;
        println!(
            "| {what} | {cpu:.2} s | {wall:.2} s | {memory:.0} | {} |",
            ratio.unwrap_or_default()
        );
        cost
    };
    // Two hosts of the same media, one of which is shut to whoever serves it.
    write("granary.listing", &listing("granary", entries, "0640"));
    write("archive.listing", &listing("archive", entries, "0640"));
    write("shut.listing", &listing("granary", entries, "0600"));
    write("site.toml", &site(1));
    write("many.toml", &site(50));
    told("survey --from", measured("survey --from granary.listing -o granary.survey"), None);
    measured("survey --from archive.listing -o archive.survey");
    measured("survey --from shut.listing -o shut.survey");
    for name in ["granary.listing", "archive.listing", "shut.listing"] {
        std::fs::remove_file(folder.join(name)).expect("it is there");
    }
    let whole = told(
        "all of a survey (compare with itself, halved)",
        half(measured("compare granary.survey granary.survey")),
        None,
    );
    let beside = Some(("that", whole));
    let one = "--layout site.toml --survey granary.survey --from service:lantern \
               /media/00007/Title S01E07.mkv";
    let one = one.replace("Title S01E07", "Title-S01E07");
    told("one question: access", measured(&format!("access {one}")), beside);
    told("one question: trace", measured(&format!("trace {one}")), beside);
    let all =
        "access --below --layout site.toml --survey granary.survey --from service:lantern /media";
    told("access --below", measured(all), beside);
    let fine = told("check", measured("check --layout site.toml --survey granary.survey"), beside);
    let shut = measured("check --layout site.toml --survey shut.survey");
    told("check, everything refused", shut, Some(("what is in order", fine)));
    let two = "check --layout many.toml --survey granary.survey --survey archive.survey";
    told("check, 10 hosts, 50 services, twice as much", measured(two), Some(("one", fine)));
    let films = site(1).replace("'/loft/media'", "'/loft/films'").replace("'series'", "'films'");
    write("films.toml", &films);
    let small = measured("check --layout films.toml --survey granary.survey");
    told("check of 1000 entries of these", small, Some(("all of it", fine)));
    // Many services with few refusals each, and many owners.
    let mut before = None;
    for services in [50, 200] {
        for refused in [0, 3] {
            write("box.listing", &many(services, refused));
            write("box.toml", &services_of(services));
            let cost = measured("check --layout box.toml --survey box.listing");
            let name = format!("check, {services} services, {refused} refusals each");
            let beside = before.filter(|_| refused > 0).map(|before| ("what is in order", before));
            before = Some(told(&name, cost, beside));
        }
    }
    let mut before = None;
    for owners in [20_000, 40_000] {
        write("own.listing", &owned(owners));
        let cost = measured("check --layout site.toml --survey own.listing");
        let name = format!("check, {owners} refused files of as many owners");
        before = Some(told(&name, cost, before.map(|before| ("half as many", before))));
    }
}

/// One of two equal parts.
fn half(cost: Cost) -> Cost {
    Cost { wall: cost.wall / 2.0, cpu: cost.cpu / 2.0, memory: cost.memory / 2.0 }
}

fn head(host: &str) -> String {
    format!(
        "tarvek-listing 1\nhost {host}\ntaken 1795305600\nsection mountinfo\n|36 35 98:0 / / rw - \
         ext4 /dev/sda1 rw\n|37 36 98:1 / /loft rw - ext4 \
         /dev/sdb1 rw\nend mountinfo\nsection passwd\n|root:x:0:0::/:/bin/sh\n\
         |mira:x:1101:2100::/:/bin/sh\nend passwd\nsection roots\n|deep /loft\n\
         end roots\nsection tree type mode uid gid size allocated inode links mtime device path\n\
         |d 0755 0 0 6 0 2 3 1 - /\n\
         |d 0755 0 0 6 0 3 3 1 - /loft\n|d 0755 1101 2100 6 0 4 3 1 - /loft/media\n"
    )
}

/// Folders of 75 files.
fn listing(host: &str, entries: u64, mode: &str) -> String {
    let mut text = head(host);
    for n in 0..entries / 76 {
        let inode = 10 + n * 100;
        let _ = writeln!(text, "|d 0755 1101 2100 6 0 {inode} 2 1 - /loft/media/{n:05}");
        for file in 0..75 {
            let _ = writeln!(
                text,
                "|f {mode} 1101 2100 {} 4096 {} 1 1 - /loft/media/{n:05}/Title-S01E{file:02}.mkv",
                n * 75 + file,
                inode + file + 1
            );
        }
    }
    // Little beside it, which is shared by itself.
    text += "|d 0755 1101 2100 6 0 5 3 1 - /loft/films\n";
    for n in 0..500 {
        let folder = format!("/loft/films/Low Water {n} (2003)");
        let _ = writeln!(text, "|d 0755 1101 2100 6 0 - 2 1 - {folder}");
        let _ =
            writeln!(text, "|f {mode} 1101 2100 7 4096 - 1 1 - {folder}/Low Water {n} (2003).mkv");
    }
    text + "end tree\ncomplete\n"
}

/// Ten hosts, and services of which two serve.
fn site(services: usize) -> String {
    let mut text = "tarvek = 1\nsite = 'bench'\n[host.granary]\nrole = 'storage'\n[host.archive]\n\
                    role = 'storage'\n"
        .to_owned();
    for host in 0..8 {
        let _ = writeln!(text, "[host.app{host}]\nrole = 'apps'");
    }
    for host in ["granary", "archive"] {
        let _ = writeln!(
            text,
            "[share.{host}]\nhost = '{host}'\npath = '/loft/media'\nnfs = [{{ clients = \
             '10.20.0.0/24', access = 'ro' }}]"
        );
        for app in 0..8 {
            let _ = writeln!(
                text,
                "[[mount]]\nhost = 'app{app}'\nat = '/mnt/{host}'\nfrom = '{host}:{host}'\n\
                 protocol = 'nfs'\noptions = 'ro,nofail'"
            );
        }
    }
    for service in 0..services {
        let (name, host) = match service {
            0 => ("lantern".to_owned(), "granary"),
            1 => ("other".to_owned(), "archive"),
            n => (format!("s{n}"), "granary"),
        };
        let does = match service {
            0 | 1 => format!(
                "role = 'serve'\nlibraries = [{{ name = 'L{service}', kind = 'series', roots = \
                 ['/media'] }}]"
            ),
            _ => "role = 'fetch'".to_owned(),
        };
        let _ = writeln!(
            text,
            "[service.{name}]\nhost = 'app{}'\nruns_as = '{}:2100'\nmap = [{{ from = \
             '/mnt/{host}', to = '/media', access = 'ro' }}]\n{does}",
            service % 8,
            840 + service
        );
    }
    text
}

/// A library for each service, of six titles, some of which are shut.
fn many(services: usize, refused: usize) -> String {
    let mut text = head("granary");
    for service in 0..services {
        let _ = writeln!(text, "|d 0755 0 0 6 0 - 2 1 - /loft/media/{service}");
        for title in 0..6 {
            let (mode, owner) = (if title < refused { "0700" } else { "0755" }, 1200 + title);
            let path = format!("/loft/media/{service}/Title {title} (200{title})");
            let _ = writeln!(text, "|d {mode} {owner} {owner} 6 0 - 2 1 - {path}");
            let _ = writeln!(
                text,
                "|f 0644 {owner} {owner} 6 0 - 1 1 - {path}/Title {title} (200{title}).mkv"
            );
        }
    }
    text + "end tree\ncomplete\n"
}

fn services_of(services: usize) -> String {
    let mut text =
        "tarvek = 1\nsite = 'bench'\n[host.granary]\nrole = ['storage', 'apps']\n".to_owned();
    for service in 0..services {
        let _ = writeln!(
            text,
            "[service.s{service}]\nhost = 'granary'\nrole = 'serve'\nruns_as = '{0}:{0}'\nmap = \
             [{{ from = '/loft/media/{service}', to = '/media', \
             access = 'ro' }}]\nlibraries = [{{ name = 'L{service}', kind = 'films', roots = \
             ['/media'] }}]",
            3000 + service
        );
    }
    text
}

/// Files that only their owners may read.
fn owned(owners: usize) -> String {
    let mut text = head("granary") + "|d 0755 0 0 6 0 - 2 1 - /loft/media/Show\n";
    for owner in 0..owners {
        let owner = 100_000 + owner;
        let _ = writeln!(
            text,
            "|f 0600 {owner} {owner} 6 0 - 1 1 - /loft/media/Show/Show S01E{owner}.mkv"
        );
    }
    text + "end tree\ncomplete\n"
}
