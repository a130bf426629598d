//! What the pages say: every text of theirs stands in one file for each language, with what depends on a number chosen by the
//! language's own rule.

use fluent_bundle::concurrent::FluentBundle;
use fluent_bundle::{FluentArgs, FluentResource, FluentValue};
use std::fmt;
use std::sync::LazyLock;

const ENGLISH: &str = include_str!("../assets/words/en/pages.ftl");

static BUNDLE: LazyLock<FluentBundle<FluentResource>> = LazyLock::new(|| {
    let mut bundle = FluentBundle::new_concurrent(vec!["en".parse().unwrap_or_default()]);
    // The texts run one way; marks that keep two ways of writing apart would only be in the way of searching.
    bundle.set_use_isolating(false);
    // What is wrong with the file is told by its test; what is right of it is there all the same.
    let resource = FluentResource::try_new(ENGLISH.to_owned()).unwrap_or_else(|(resource, _)| resource);
    bundle.add_resource_overriding(resource);
    bundle
});

/// What may be put into a text.
pub(crate) trait Value {
    fn value(&self) -> FluentValue<'static>;
}

impl<T: Value + ?Sized> Value for &T {
    fn value(&self) -> FluentValue<'static> {
        (*self).value()
    }
}

macro_rules! values {
    ($($kind:ty: $how:expr),*) => {
        $(impl Value for $kind {
            fn value(&self) -> FluentValue<'static> {
                #[allow(clippy::redundant_closure_call)]
                $how(self)
            }
        })*
    };
}
values!(
    str: |text: &str| text.to_owned().into(),
    String: |text: &String| text.clone().into(),
    usize: |n: &usize| (*n).into(),
    u32: |n: &u32| (*n).into(),
    u64: |n: &u64| (*n).into(),
    i64: |n: &i64| (*n).into()
);

/// A text, to be shown.
pub(crate) struct Said {
    name: &'static str,
    values: FluentArgs<'static>,
}

/// The text of that name.
pub(crate) fn say(name: &'static str) -> Said {
    Said { name, values: FluentArgs::new() }
}

impl Said {
    /// With a value that stands in it.
    pub(crate) fn with(self, name: &'static str, value: impl Value) -> Self {
        self.put(name, value.value())
    }

    // Apart, so that it is compiled once and not for each kind of value.
    fn put(mut self, name: &'static str, value: FluentValue<'static>) -> Self {
        self.values.set(name, value);
        self
    }
}

impl fmt::Display for Said {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Some(pattern) = BUNDLE.get_message(self.name).and_then(|message| message.value()) else {
            // A fault of the program, which a test finds before anybody sees it.
            return f.write_str(self.name);
        };
        f.write_str(&BUNDLE.format_pattern(pattern, Some(&self.values), &mut Vec::new()))
    }
}

impl From<Said> for String {
    fn from(said: Said) -> Self {
        said.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    #[test]
    fn numbers_choose_their_words_and_stand_as_they_are() {
        let frames = |count: usize| say("base-so-many-frames").with("count", count).to_string();
        assert_eq!([frames(0), frames(1), frames(12345)], ["0 frames", "1 frame", "12345 frames"]);
        assert_eq!(say("any-run").with("id", 7i64).to_string(), "Run 7");
    }

    #[test]
    fn the_file_is_right_and_has_what_templates_and_pages_say() {
        let known = FluentResource::try_new(ENGLISH.to_owned()).expect("every line is read");
        let mut names: Vec<_> = known
            .entries()
            .filter_map(|entry| match entry {
                fluent_syntax::ast::Entry::Message(message) => Some(message.id.name),
                _ => None,
            })
            .collect();
        let many = names.len();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), many, "a name stands for one text");
        let here = Path::new(env!("CARGO_MANIFEST_DIR"));
        let files =
            ["templates", "templates/dialogs", "src", "src/pages", "src/api"].map(|folder| here.join(folder));
        let files = files.iter().flat_map(|folder| std::fs::read_dir(folder).unwrap());
        let text: String =
            files.filter_map(|entry| std::fs::read_to_string(entry.unwrap().path()).ok()).collect();
        // What the tests above ask for is not counted twice.
        for said in text.split("say(\"").skip(1) {
            let name = said.split('"').next().unwrap();
            assert!(known_has(&known, name), "there are no words called {name}");
        }
        names.retain(|name| {
            !text.contains(&format!("\"{name}\"")) && !ENGLISH.contains(&format!("{{ {name} }}"))
        });
        assert_eq!(names, Vec::<&str>::new(), "nobody says these");
    }

    fn known_has(known: &FluentResource, name: &str) -> bool {
        known.entries().any(
            |entry| matches!(entry, fluent_syntax::ast::Entry::Message(message) if message.id.name == name),
        )
    }
}
