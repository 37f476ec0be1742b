//! The house: in both crates arrows between files and between rooms go down only, in the order in which `ARCHITECTURE.md` lists the
//! rooms. Read from the code itself: every path that it names is followed to the file that holds the name.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use proc_macro2::{TokenStream, TokenTree};
use quote::ToTokens;
use syn::{Attribute, Item, UseTree};

/// A path in the code, such as `crate::bytes::ReadAt`.
type Words = Vec<String>;
/// From which file to which.
type Arrow = (String, String);

/// What a name in a module stands for.
enum Name {
    Defined,
    Module(Words),
    Imported(Words),
}

#[derive(Default)]
struct Module {
    file: String,
    names: BTreeMap<String, Name>,
    paths: BTreeSet<Words>,
}

/// All modules of a crate, by their path.
struct House {
    root: PathBuf,
    modules: BTreeMap<Words, Module>,
}

impl House {
    fn of(folder: &str) -> Self {
        let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(folder);
        let mut house = Self { root: root.clone(), modules: BTreeMap::new() };
        let entry = ["lib.rs", "main.rs"].map(|name| root.join(name)).into_iter().find(|path| path.exists()).unwrap();
        house.read(&entry, &Words::new());
        house
    }

    fn read(&mut self, file: &Path, place: &Words) {
        let parsed = syn::parse_file(&fs::read_to_string(file).unwrap()).unwrap();
        self.take_in(file, place, &parsed.items);
    }

    fn take_in(&mut self, file: &Path, place: &Words, items: &[Item]) {
        let file_name = file.strip_prefix(&self.root).unwrap().to_str().unwrap().to_owned();
        let mut module = Module { file: file_name, ..Module::default() };
        for item in items.iter().filter(|item| !attributes(item).iter().any(is_for_tests)) {
            match item {
                Item::Mod(inner) => {
                    let name = inner.ident.to_string();
                    let child = [place.as_slice(), std::slice::from_ref(&name)].concat();
                    module.names.insert(name.clone(), Name::Module(child.clone()));
                    match &inner.content {
                        Some((_, items)) => self.take_in(file, &child, items),
                        None => self.read(&file_of(file, &name), &child),
                    }
                }
                Item::Use(used) => {
                    let mut imported = Vec::new();
                    unfold(&used.tree, &Words::new(), &mut imported);
                    // What is only handed on is no arrow of its own: whoever asks for it is led to where it is defined.
                    let is_private = matches!(used.vis, syn::Visibility::Inherited);
                    module.paths.extend(imported.iter().filter(|_| is_private).map(|(_, path)| path.clone()));
                    module.names.extend(imported.into_iter().map(|(name, path)| (name, Name::Imported(path))));
                }
                other => {
                    module.names.extend(name_of(other).map(|name| (name, Name::Defined)));
                    paths_in(other.to_token_stream(), &mut module.paths);
                }
            }
        }
        self.modules.insert(place.clone(), module);
    }

    /// The file that holds what `path` names, seen from `from`; `None` for what is not of this crate.
    fn file_of(&self, from: &Words, path: &[String], steps: usize) -> Option<&str> {
        let mut at = from.clone();
        for (place, word) in path.iter().enumerate() {
            match word.as_str() {
                "crate" => at.clear(),
                "super" => drop(at.pop()?),
                "self" => {}
                name => {
                    let module = self.modules.get(&at)?;
                    match module.names.get(name)? {
                        Name::Defined => return Some(&module.file),
                        Name::Module(child) => at = child.clone(),
                        Name::Imported(to) if steps > 0 => {
                            let whole = [to.as_slice(), path.get(place + 1..).unwrap_or_default()].concat();
                            return self.file_of(&at, &whole, steps - 1);
                        }
                        Name::Imported(_) => return None,
                    }
                }
            }
        }
        self.modules.get(&at).map(|module| module.file.as_str())
    }

    fn arrows(&self) -> BTreeSet<Arrow> {
        let named =
            self.modules.iter().flat_map(|(place, module)| module.paths.iter().map(move |path| (place, module, path)));
        let arrows = named
            .filter_map(|(place, module, path)| Some((module.file.clone(), self.file_of(place, path, 20)?.to_owned())));
        arrows.filter(|(from, to)| from != to).collect()
    }
}

/// The file of a module that is declared in `file`.
fn file_of(file: &Path, name: &str) -> PathBuf {
    let is_folders_own = ["mod", "lib", "main"].iter().any(|stem| file.file_stem().unwrap() == *stem);
    let folder = if is_folders_own { file.parent().unwrap().to_owned() } else { file.with_extension("") };
    let plain = folder.join(format!("{name}.rs"));
    if plain.exists() { plain } else { folder.join(name).join("mod.rs") }
}

fn is_for_tests(attribute: &Attribute) -> bool {
    attribute.path().is_ident("test") || attribute.to_token_stream().to_string().replace(' ', "") == "#[cfg(test)]"
}

fn attributes(item: &Item) -> &[Attribute] {
    match item {
        Item::Const(item) => &item.attrs,
        Item::Fn(item) => &item.attrs,
        Item::Impl(item) => &item.attrs,
        Item::Mod(item) => &item.attrs,
        Item::Use(item) => &item.attrs,
        _ => &[],
    }
}

fn name_of(item: &Item) -> Option<String> {
    Some(match item {
        Item::Const(item) => item.ident.to_string(),
        Item::Enum(item) => item.ident.to_string(),
        Item::Fn(item) => item.sig.ident.to_string(),
        Item::Static(item) => item.ident.to_string(),
        Item::Struct(item) => item.ident.to_string(),
        Item::Trait(item) => item.ident.to_string(),
        Item::Type(item) => item.ident.to_string(),
        _ => return None,
    })
}

fn unfold(tree: &UseTree, before: &Words, out: &mut Vec<(String, Words)>) {
    let with = |name: &syn::Ident| [before.as_slice(), &[name.to_string()]].concat();
    match tree {
        UseTree::Path(path) => unfold(&path.tree, &with(&path.ident), out),
        UseTree::Name(name) if name.ident == "self" => out.push((before.last().unwrap().clone(), before.clone())),
        UseTree::Name(name) => out.push((name.ident.to_string(), with(&name.ident))),
        UseTree::Rename(renamed) => out.push((renamed.rename.to_string(), with(&renamed.ident))),
        UseTree::Group(group) => group.items.iter().for_each(|tree| unfold(tree, before, out)),
        UseTree::Glob(_) => panic!("{before:?}::* hides what is named"),
    }
}

/// Every path of two words or more, also in what macros are given.
fn paths_in(tokens: TokenStream, out: &mut BTreeSet<Words>) {
    let mut path = Words::new();
    let mut colons = 0;
    for token in tokens {
        match &token {
            TokenTree::Ident(word) => {
                if colons != 2 {
                    out.extend((path.len() > 1).then(|| path.clone()));
                    path.clear();
                }
                path.push(word.to_string());
                colons = 0;
                continue;
            }
            TokenTree::Punct(mark) if mark.as_char() == ':' && !path.is_empty() => {
                colons += 1;
                continue;
            }
            TokenTree::Group(group) => paths_in(group.stream(), out),
            _ => {}
        }
        out.extend((path.len() > 1).then(|| path.clone()));
        path.clear();
        colons = 0;
    }
    out.extend((path.len() > 1).then_some(path));
}

fn room_of(file: &str) -> &str {
    file.split('/').next().unwrap().trim_end_matches(".rs")
}

/// The rooms of a crate from the top down, as the page's layout lists them.
fn rooms_of_the_page(page: &str, crate_folder: &str) -> Vec<String> {
    let lines = page.lines().skip_while(|line| !line.starts_with(crate_folder)).skip(1);
    let rooms = lines.take_while(|line| line.starts_with("  ")).filter(|line| !line.starts_with("    "));
    let names = rooms.filter_map(|line| line.split_whitespace().next());
    names.map(|name| name.trim_end_matches('/').to_owned()).collect()
}

/// Arrows that are part of a way back to where they begin.
fn in_circles(arrows: &BTreeSet<Arrow>) -> Vec<&Arrow> {
    let leads = |from: &str, to: &str| {
        let mut seen = BTreeSet::from([from]);
        let mut open = vec![from];
        while let Some(at) = open.pop() {
            let next = arrows.iter().filter(|(from, _)| from == at).map(|(_, to)| to.as_str());
            open.extend(next.filter(|to| seen.insert(to)));
        }
        seen.contains(to)
    };
    arrows.iter().filter(|(from, to)| leads(to, from)).collect()
}

#[test]
fn arrows_go_down_only_by_room_and_by_file() {
    let page = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../ARCHITECTURE.md")).unwrap();
    for folder in ["core/src", "cli/src"] {
        let arrows = House::of(folder).arrows();
        assert!(arrows.len() > 100, "{folder}: the arrows are seen");
        assert_eq!(in_circles(&arrows), Vec::<&Arrow>::new(), "{folder}: circles");
        let rooms = rooms_of_the_page(&page, folder);
        let floor = |file: &str| {
            let room = room_of(file);
            rooms
                .iter()
                .position(|known| known == room)
                .unwrap_or_else(|| panic!("{folder}: {room} is not on the page"))
        };
        let is_up = |(from, to): &&Arrow| floor(from) > floor(to);
        assert_eq!(arrows.iter().filter(is_up).collect::<Vec<_>>(), Vec::<&Arrow>::new(), "{folder}: up");
    }
}

#[test]
fn a_circle_is_found_and_a_chain_is_none() {
    let arrows = |pairs: &[(&str, &str)]| pairs.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect();
    assert!(in_circles(&arrows(&[("a", "b"), ("b", "c"), ("a", "c")])).is_empty());
    assert_eq!(in_circles(&arrows(&[("a", "b"), ("b", "c"), ("c", "b")])).len(), 2);
}
