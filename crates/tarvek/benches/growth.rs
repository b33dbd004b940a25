//! How time and memory grow with each kind of input: at n and at 2n, as a ratio. Fails if one is
//! above 2.5.
//!
//! Each case runs five times, and the least counts; what the program takes for nothing at all is
//! taken off.

#![allow(clippy::print_stdout)] // figures are what it is for

use std::fmt::Write as _;
use std::path::Path;

use support::{Cost, is_copy};

mod support;

/// The most that doubled input may cost.
const MOST: f64 = 2.5;

const HEAD: &str = "tarvek = 1\nsite = \"Kestrel Hollow\"\n[host.granary]\nrole = \"storage\"\n\
                    [host.millrace]\nrole = \"apps\"\n\
                    [share.media]\nhost = \"granary\"\npath = \"/loft/media\"\nnfs = [{ clients \
                    = \"10.20.0.0/24\" }]\n";
const LANTERN: &str = "[service.lantern]\nhost = \"granary\"\nrole = \"serve\"\nruns_as \
                       = \"840:840\"\nmap = [{ from = \"/loft\", to = \"/m\" }]\n\
                       libraries = [{ name = \"Films\", kind = \"films\", roots = [\"/m\"] }]\n";

/// Repeats a text for each number.
fn each(n: usize, one: impl Fn(usize) -> String) -> String {
    (0..n).map(one).collect()
}

/// The parts of a listing that a case fills.
#[derive(Default)]
struct Viewer {
    mounts: String,
    sections: String,
    roots: Option<String>,
    tree: String,
    gaps: String,
}

fn listing(seen: Viewer) -> String {
    let roots = seen.roots.unwrap_or_else(|| "|deep /loft\n".to_owned());
    format!(
        "tarvek-listing 1\nhost granary\ntaken 1795305600\nsection mountinfo\n|36 35 98:0 / / rw - \
         ext4 /dev/sda1 rw\n{}end mountinfo\n{}\
         section roots\n{roots}end roots\nsection tree type mode uid gid size allocated inode \
         links mtime device path\n\
         |d 0755 0 0 6 0 2 3 1 - /\n|d 0755 0 0 6 0 3 3 1 - /loft\n{}end tree\nsection gaps\n{}end \
         gaps\ncomplete\n",
        seen.mounts, seen.sections, seen.tree, seen.gaps
    )
}

fn folder(n: usize, mode: &str) -> String {
    format!("|d {mode} 0 0 6 0 {} 3 1 - /loft/d{n}\n", n + 10)
}

/// A layout, and a listing beside it.
type Input = (String, Option<String>);

struct Case {
    name: &'static str,
    n: usize,
    input: fn(usize) -> Input,
    /// What is run; `{n}` times `/d` where it says so.
    arguments: &'static str,
}

const CASES: &[Case] = &[
    Case {
        name: "mistakes",
        n: 10_000,
        arguments: "check",
        input: |n| {
            (
                HEAD.to_owned()
                    + &each(n, |i| {
                        format!("[service.s{i}]\nhost = \"nope\"\nrole = \"serve\"\nbad = 1\n")
                    }),
                None,
            )
        },
    },
    Case {
        name: "unknown keys",
        n: 50_000,
        arguments: "check",
        input: |n| (HEAD.to_owned() + &each(n, |i| format!("k{i} = 1\n")), None),
    },
    Case {
        name: "mistakes in one line",
        n: 50_000,
        arguments: "check",
        input: |n| {
            let rights = each(n, |i| format!("a{i} = \"nope\", "));
            (
                format!(
                    "{HEAD}[[folder]]\nhost = \"granary\"\npath = \"/x\"\nrights = {{ {} }}\n",
                    rights.trim_end_matches(", ")
                ),
                None,
            )
        },
    },
    Case {
        name: "mounts",
        n: 10_000,
        arguments: "check",
        input: |n| {
            (
                HEAD.to_owned()
                    + &each(n, |i| {
                        format!(
                            "[[mount]]\nhost = \"millrace\"\nfrom = \"granary:media\"\nprotocol \
                             = \"nfs\"\nat = \"/mnt/m{i}\"\n"
                        )
                    }),
                None,
            )
        },
    },
    Case {
        name: "mappings",
        n: 10_000,
        arguments: "check",
        input: |n| {
            let maps = each(n, |i| format!("{{ from = \"/srv/a{i}\", to = \"/m/a{i}\" }},\n"));
            (
                format!(
                    "{HEAD}[service.lantern]\nhost = \"millrace\"\nrole = \"serve\"\nmap = [\n\
                     {maps}]\nlibraries = [{{ name = \"Films\", kind = \"films\", roots = \
                     [\"/m/a1\"] }}]\n"
                ),
                None,
            )
        },
    },
    Case {
        name: "services",
        n: 1000,
        arguments: "check",
        input: |n| {
            (
                HEAD.to_owned()
                    + &each(n, |i| {
                        format!(
                            "[service.s{i}]\nhost = \"millrace\"\nrole = \"serve\"\nruns_as \
                             = \"{0}:{0}\"\nmap = [{{ from = \"/loft/media\", to = \"/m\" }}]\n\
                             libraries = [{{ name = \"F{i}\", kind = \"films\", roots = \
                             [\"/m/f{i}\"] }}]\n",
                            1000 + i
                        )
                    }),
                None,
            )
        },
    },
    Case {
        name: "hosts",
        n: 5000,
        arguments: "check",
        input: |n| {
            (
                HEAD.to_owned()
                    + &each(n, |i| {
                        format!("[host.h{i}]\nrole = \"apps\"\naddresses = [\"h{i}.lan\"]\n")
                    }),
                None,
            )
        },
    },
    Case {
        name: "libraries",
        n: 2000,
        arguments: "check",
        input: |n| {
            let libraries = each(n, |i| {
                format!("{{ name = \"F{i}\", kind = \"films\", roots = [\"/m/f{i}\"] }},\n")
            });
            (
                format!(
                    "{HEAD}[service.lantern]\nhost = \"millrace\"\nrole = \"serve\"\nmap = [{{ \
                     from = \"/loft\", to = \"/m\" }}]\nlibraries = [\n{libraries}]\n"
                ),
                None,
            )
        },
    },
    Case {
        name: "intakes",
        n: 1000,
        arguments: "check",
        input: |n| {
            (
                format!(
                    "{HEAD}[service.drover]\nhost = \"granary\"\nrole = \"fetch\"\nmap = [{{ from \
                     = \"/loft\", to = \"/m\" }}]\n"
                ) + &each(n, |i| {
                    format!(
                        "[intake.i{i}]\nfetch = {{ service = \"drover\", done = \"/m/d{i}\" }}\n\
                         sort = {{ service = \"drover\", reads = \"/m/d{i}\", files_into \
                         = \"/m/f{i}\" }}\n"
                    )
                }),
                None,
            )
        },
    },
    Case {
        name: "accounts, declared",
        n: 20_000,
        arguments: "check",
        input: |n| {
            (
                format!("{HEAD}[host.granary.accounts]\n")
                    + &each(n, |i| format!("a{i} = {{ uid = {} }}\n", i + 100)),
                None,
            )
        },
    },
    Case {
        name: "accounts, seen",
        n: 10_000,
        arguments: "access /m --from service:lantern --all",
        input: |n| {
            let passwd = each(n, |i| format!("|a{i}:x:{0}:{0}::/:/x\n", i + 1000));
            let group = each(n, |i| format!("|g{i}:x:{}:a{i},a{}\n", i + 1000, i * 7 % n));
            let sections =
                format!("section passwd\n{passwd}end passwd\nsection group\n{group}end group\n");
            (HEAD.to_owned() + LANTERN, Some(listing(Viewer { sections, ..Viewer::default() })))
        },
    },
    Case {
        name: "stacked mounts",
        n: 2000,
        arguments: "check",
        input: |n| {
            let mounts = each(n, |i| {
                format!(
                    "|{} {} 98:{} / /loft rw - ext4 /dev/x{i} rw\n",
                    100 + i,
                    if i == 0 { 36 } else { 99 + i },
                    i + 1
                )
            });
            (HEAD.to_owned() + LANTERN, Some(listing(Viewer { mounts, ..Viewer::default() })))
        },
    },
    Case {
        name: "mounts, seen",
        n: 10_000,
        arguments: "check",
        input: |n| {
            let mounts = each(n, |i| {
                format!("|{} 36 98:{} / /loft/d{i} rw - ext4 /dev/x{i} rw\n", 100 + i, i + 1)
            });
            (
                HEAD.to_owned() + LANTERN,
                Some(listing(Viewer {
                    mounts,
                    tree: each(n, |i| folder(i, "0755")),
                    ..Viewer::default()
                })),
            )
        },
    },
    Case {
        name: "folders and gaps",
        n: 20_000,
        arguments: "check",
        input: |n| {
            let gaps = each(n, |i| format!("|/loft/d{i}\tpermission denied\n"));
            (
                HEAD.to_owned() + LANTERN,
                Some(listing(Viewer {
                    gaps,
                    tree: each(n, |i| folder(i, "0755")),
                    ..Viewer::default()
                })),
            )
        },
    },
    Case {
        name: "roots",
        n: 10_000,
        arguments: "check",
        input: |n| {
            let roots = Some(each(n, |i| format!("|deep /loft/d{i}\n|none /loft/d{i}/x\n")));
            (
                HEAD.to_owned(),
                Some(listing(Viewer {
                    roots,
                    tree: each(n, |i| folder(i, "0755")),
                    ..Viewer::default()
                })),
            )
        },
    },
    Case {
        name: "everything refused",
        n: 20_000,
        arguments: "check",
        input: |n| {
            (
                HEAD.to_owned() + LANTERN,
                Some(listing(Viewer { tree: each(n, |i| folder(i, "0700")), ..Viewer::default() })),
            )
        },
    },
    Case {
        name: "ACLs",
        n: 10_000,
        arguments: "check",
        input: |n| {
            let acls = each(n, |i| {
                format!(
                    "|# file: /loft/d{i}\n|user::rwx\n|user:{}:r-x\n|user:{}:r-x\n|group::r-x\n\
                     |mask::r-x\n|other::---\n|\n",
                    i + 1,
                    i + 2
                )
            });
            let sections = format!("section acl\n{acls}end acl\n");
            (
                HEAD.to_owned() + LANTERN,
                Some(listing(Viewer {
                    sections,
                    tree: each(n, |i| folder(i, "0750")),
                    ..Viewer::default()
                })),
            )
        },
    },
    Case {
        name: "declared folders",
        n: 2000,
        arguments: "check",
        input: |n| {
            let folders = each(n, |i| {
                format!(
                    "[[folder]]\nhost = \"granary\"\npath = \"/loft/d{i}\"\nowner = \"mira\"\nmode \
                     = \"0755\"\nrights = {{ mira = \"read\" }}\n"
                )
            });
            (
                format!("{HEAD}{folders}[host.granary.accounts]\nmira = {{ uid = 1101 }}\n"),
                Some(listing(Viewer { tree: each(n, |i| folder(i, "0755")), ..Viewer::default() })),
            )
        },
    },
    Case {
        name: "fstab",
        n: 10_000,
        arguments: "check",
        input: |n| {
            let sections = format!(
                "section fstab\n{}end fstab\n",
                each(n, |i| format!("|UUID={i} /mnt/x{i} ext4 ro 0 0\n"))
            );
            (HEAD.to_owned() + LANTERN, Some(listing(Viewer { sections, ..Viewer::default() })))
        },
    },
    Case {
        name: "datasets",
        n: 10_000,
        arguments: "check",
        input: |n| {
            let zfs =
                each(n, |i| format!("|loft/d{i}\tmountpoint\t/loft/d{i}\n|loft/d{i}\tatime\ton\n"));
            (
                HEAD.to_owned() + LANTERN,
                Some(listing(Viewer {
                    sections: format!("section zfs\n{zfs}end zfs\n"),
                    ..Viewer::default()
                })),
            )
        },
    },
    // The listing of a deep tree is as long as the square of its depth, so that the tree stays as
    // it is.
    Case {
        name: "components of a path",
        n: 900,
        arguments: "trace /m{n} --from service:lantern",
        input: |_| {
            let tree = each(1900, |i| {
                format!("|d 0755 0 0 6 0 {} 3 1 - /loft{}\n", i + 10, "/d".repeat(i + 1))
            });
            (HEAD.to_owned() + LANTERN, Some(listing(Viewer { tree, ..Viewer::default() })))
        },
    },
    Case {
        name: "services of a brief",
        n: 1000,
        arguments: "draft --brief tarvek.toml",
        input: |n| {
            (
                "brief = 1\nsite = \"Kestrel Hollow\"\nkinds = [\"films\"]\n[storage]\nhost \
              = \"granary\"\npool = \"loft\"\nfilesystem = \"zfs\"\n"
                    .to_owned()
                    + &each(n, |i| {
                        format!("[service.s{i}]\nrole = \"serve\"\nid = {}\n", 3000 + i)
                    }),
                None,
            )
        },
    },
];

/// Seconds of CPU and MiB of memory of the program.
fn cost(folder: &Path, arguments: &str) -> (f64, f64) {
    let arguments: Vec<&str> = arguments.split(' ').collect();
    let run = |_| support::cost(folder, env!("CARGO_BIN_EXE_tarvek"), &arguments);
    let least = Cost::least(&[1, 2, 3, 4, 5].map(run));
    (least.cpu, least.memory)
}

/// What a case runs on.
fn written(case: &Case, n: usize) -> (tempfile::TempDir, String) {
    let folder = tempfile::tempdir().unwrap();
    let (layout, listing) = (case.input)(n);
    std::fs::write(folder.path().join("tarvek.toml"), layout).unwrap();
    if let Some(listing) = listing {
        std::fs::write(folder.path().join("granary.listing"), listing).unwrap();
    }
    (folder, case.arguments.replace("{n}", &"/d".repeat(n)))
}

/// What is asked of libraries as people have them.
const QUESTIONS: &[&str] = &[
    "check",
    "check --survey granary.survey",
    "forecast",
    "forecast --titles",
    "waste",
    "access /m --from service:lantern --below",
    "compare granary.listing granary.listing",
    "survey --from granary.listing -o new.survey",
];

/// So many entries of a library.
const ENTRIES: usize = 20_000;

/// A library of a shape, as a listing and as a survey.
fn library(shape: &str, kind: &str, entries: usize) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let layout = HEAD.to_owned() + &LANTERN.replace("\"films\"", &format!("\"{kind}\""));
    std::fs::write(folder.path().join("tarvek.toml"), layout).unwrap();
    let listing = support::libraries::listing(shape, entries);
    std::fs::write(folder.path().join("granary.listing"), listing).unwrap();
    let mut survey = std::process::Command::new(env!("CARGO_BIN_EXE_tarvek"));
    survey.current_dir(folder.path());
    support::run(survey.args([
        "survey",
        "--from",
        "granary.listing",
        "-o",
        "granary.survey",
        "-q",
    ]));
    folder
}

/// Files of which nothing can be taken, for `adopt`.
fn bad_parts(n: usize) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let shares = each(n, |i| format!("[s{i}]\npath = /x/{i}/%U\nread only = perhaps\n"));
    let services = each(n, |i| {
        format!(
            "  s{i}:\n    user: no body\n    volumes: ['a b:/x:quick', '/x:relative']\n    ports: \
             ['x']\n"
        )
    });
    let conf = folder.path().join("conf");
    std::fs::create_dir(&conf).unwrap();
    std::fs::write(conf.join("smb.conf"), shares).unwrap();
    std::fs::write(conf.join("compose.yaml"), format!("services:\n{services}")).unwrap();
    std::fs::write(conf.join("fstab"), each(n, |i| format!("/dev/x{i} /mnt\n"))).unwrap();
    let exports = each(n, |i| format!("/x/{i} *(quick)\n"));
    std::fs::write(conf.join("exports"), exports).unwrap();
    folder
}

/// Measures one case at n and 2n, and says whether it grows too fast.
fn measure(name: &str, n: usize, make: &dyn Fn(usize) -> (tempfile::TempDir, String)) -> bool {
    // What it takes for nothing of the kind.
    let (nothing, arguments) = make(1);
    let base = cost(nothing.path(), &arguments);
    let costs = [n, 2 * n].map(|n| {
        let (folder, arguments) = make(n);
        let (time, memory) = cost(folder.path(), &arguments);
        // Less than this is what pages and clocks count by.
        ((time - base.0).max(0.02), (memory - base.1).max(8.0))
    });
    let [(time, memory), (more_time, more_memory)] = costs;
    let ratios = (more_time / time, more_memory / memory);
    println!("{name:44} {n:7} {time:7.2}s {memory:6.1}MiB {:10.2} {:12.2}", ratios.0, ratios.1);
    ratios.0 > MOST || ratios.1 > MOST
}

fn main() {
    if is_copy() {
        return;
    }
    let only = std::env::args().nth(1).filter(|first| !first.starts_with('-'));
    let wanted = |name: &str| only.as_ref().is_none_or(|only| name.contains(only.as_str()));
    let mut wrong = String::new();
    println!("{:44} {:>7} {:>8} {:>8}   time of 2n  memory of 2n", "input", "n", "time", "memory");
    for case in CASES.iter().filter(|case| wanted(case.name)) {
        if measure(case.name, case.n, &|n| written(case, n)) {
            let _ = write!(wrong, " {}", case.name);
        }
    }
    for (shape, kind) in support::libraries::SHAPES {
        for question in QUESTIONS {
            let name = format!("{shape}: {}", question.split(" /").next().unwrap_or_default());
            let make = |n| (library(shape, kind, n), (*question).to_owned());
            if wanted(&name) && measure(&name, ENTRIES, &make) {
                let _ = write!(wrong, " {name}");
            }
        }
    }
    let adopt = |n| (bad_parts(n), "adopt granary:conf -o new.toml -q".to_owned());
    if wanted("adopt, bad parts") && measure("adopt, bad parts", 2000, &adopt) {
        wrong += " adopt";
    }
    assert!(wrong.is_empty(), "more than {MOST} times:{wrong}");
}
