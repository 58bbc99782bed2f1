//! The house has no circles: in no crate do files use each other in a ring, by their `use` lines.
//! A file that says `use crate::a::B` leans on the file of the module `a`. And no example stands where none is run.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use syn::{Item, UseName, UseRename, UseTree, visit::Visit};

type Module = Vec<String>;

/// The source files below a folder, by the module that each is.
fn files(folder: &Path, module: &Module, all: &mut BTreeMap<Module, PathBuf>) {
    for entry in fs::read_dir(folder).expect("a folder of sources") {
        let path = entry.expect("an entry").path();
        let stem = path.file_stem().expect("a name").to_string_lossy().into_owned();
        let below: Module = module.iter().cloned().chain([stem.clone()]).collect();
        if path.is_dir() {
            files(&path, &below, all);
        } else if path.extension().is_some_and(|e| e == "rs") {
            let own = if ["lib", "main", "mod"].contains(&stem.as_str()) { module.clone() } else { below };
            all.insert(own, path);
        }
    }
}

/// Gathers what a file uses, as modules from the crate's root; `here` is the module at hand, inline ones included.
struct Uses {
    here: Module,
    found: Vec<Module>,
}

impl Uses {
    fn tree(&mut self, base: &Module, tree: &UseTree, first: bool) {
        match tree {
            UseTree::Path(path) => {
                let name = path.ident.to_string();
                let mut base = base.clone();
                match name.as_str() {
                    "crate" if first => base.clear(),
                    "self" => {}
                    "super" => drop(base.pop()),
                    _ => base.push(name.clone()),
                }
                self.tree(&base, &path.tree, first && name == "super");
            }
            UseTree::Group(group) => group.items.iter().for_each(|one| self.tree(base, one, first)),
            UseTree::Name(name) if name.ident == "self" => self.found.push(base.clone()),
            UseTree::Name(UseName { ident }) | UseTree::Rename(UseRename { ident, .. }) => {
                self.found.push([base.as_slice(), &[ident.to_string()]].concat());
            }
            UseTree::Glob(_) => self.found.push(base.clone()),
        }
    }
}

impl Visit<'_> for Uses {
    fn visit_item(&mut self, item: &Item) {
        match item {
            Item::Use(used) => self.tree(&self.here.clone(), &used.tree, true),
            Item::Mod(module) => {
                self.here.push(module.ident.to_string());
                syn::visit::visit_item_mod(self, module);
                self.here.pop();
            }
            other => syn::visit::visit_item(self, other),
        }
    }
}

/// Files of a crate that each file leans on.
fn leans(sources: &Path) -> BTreeMap<Module, BTreeSet<Module>> {
    let mut all = BTreeMap::new();
    files(sources, &Module::new(), &mut all);
    let of = |(module, path): (&Module, &PathBuf)| {
        let text = fs::read_to_string(path).expect("a source file");
        let mut uses = Uses { here: module.clone(), found: Vec::new() };
        uses.visit_file(&syn::parse_file(&text).unwrap_or_else(|e| panic!("{}: {e}", path.display())));
        let file = |used: &Module| (0..=used.len()).rev().map(|n| used[..n].to_vec()).find(|m| all.contains_key(m));
        (module.clone(), uses.found.iter().filter_map(file).filter(|used| used != module).collect())
    };
    all.iter().map(of).collect()
}

#[test]
fn no_files_of_a_crate_use_each_other_in_a_circle() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().expect("the folder of crates");
    let mut circles = Vec::new();
    for one in fs::read_dir(crates).expect("the crates").map(|e| e.expect("a crate").path()) {
        let mut left = leans(&one.join("src"));
        // What leans on nothing that is left, or is leant on by nothing, is in no circle.
        loop {
            let leant: BTreeSet<Module> = left.values().flatten().cloned().collect();
            let free = |(m, on): (&Module, &BTreeSet<Module>)| (on.is_empty() || !leant.contains(m)).then(|| m.clone());
            let Some(free) = left.iter().find_map(free) else { break };
            left.remove(&free);
            left.values_mut().for_each(|on| on.retain(|one| *one != free));
        }
        let said = |(m, on): (Module, BTreeSet<Module>)| format!("{}/{} uses {on:?}", one.display(), m.join("/"));
        circles.extend(left.into_iter().map(said));
    }
    assert!(circles.is_empty(), "in a circle:\n{}", circles.join("\n"));
}

#[test]
fn no_example_stands_in_a_crate_whose_examples_are_not_run() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().expect("the folder of crates");
    for one in fs::read_dir(crates).expect("the crates").map(|e| e.expect("a crate").path()) {
        let manifest = fs::read_to_string(one.join("Cargo.toml")).expect("its manifest");
        let mut all = BTreeMap::new();
        files(&one.join("src"), &Module::new(), &mut all);
        for path in all.values().filter(|_| manifest.contains("doctest = false")) {
            let text = fs::read_to_string(path).expect("a source file");
            let said =
                text.lines().filter_map(|line| line.trim().strip_prefix("//")?.get(1..)?.trim().strip_prefix("```"));
            // Every other one ends what the one before it began.
            for kind in said.step_by(2) {
                assert_eq!(kind, "text", "{}: take `doctest = false` out of the crate's manifest", path.display());
            }
        }
    }
}
