//! Something that should be known before a run, and what mends it.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value};

/// Something that stops a run, or should be known before it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Problem {
    /// Whether nothing may run because of it.
    pub stops: bool,
    /// What, where, and what can be done.
    pub message: String,
    /// What mends it, each by itself.
    pub mends: Vec<Mend>,
}

/// What mends a problem, for this run.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Mend {
    /// What it does, for people.
    pub label: String,
    /// The same for the program.
    #[serde(flatten)]
    pub way: Way,
}

/// How something is mended.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
#[serde(tag = "do", rename_all = "snake_case")]
pub enum Way {
    /// A delivery gets other values.
    Delivery {
        /// Which, from 0; all that have such values without it.
        #[serde(skip_serializing_if = "Option::is_none")]
        at: Option<usize>,
        /// By their names.
        values: Map<String, Value>,
    },
    /// A line gets another value; `on` and `when` are values too.
    Line {
        /// From 0.
        line: usize,
        /// Its name.
        param: String,
        /// The value.
        value: Value,
    },
    /// Files are read in another way.
    Decode {
        /// The name of what is set.
        param: &'static str,
        /// The value.
        value: Value,
    },
    /// Some pictures are left out.
    LeaveOut {
        /// Their places among the sources.
        pictures: Vec<usize>,
    },
    /// Another folder is chosen.
    Folder,
    /// It is seen to on another page.
    Go {
        /// Its path.
        to: &'static str,
    },
}

impl Problem {
    /// Nothing may run because of it.
    pub fn stop(message: impl Into<String>) -> Self {
        Self { stops: true, message: message.into(), mends: Vec::new() }
    }

    /// It should be known.
    pub fn note(message: impl Into<String>) -> Self {
        Self { message: message.into(), ..Self::default() }
    }

    /// With something that mends it.
    pub fn or(mut self, label: impl Into<String>, way: Way) -> Self {
        self.mends.push(Mend { label: label.into(), way });
        self
    }
}

/// One delivery with another value.
pub fn delivery_at(at: usize, param: &str, value: Value) -> Way {
    Way::Delivery { at: Some(at), values: Map::from_iter([(param.to_owned(), value)]) }
}

/// All deliveries with another value.
pub fn delivery(param: &str, value: Value) -> Way {
    Way::Delivery { at: None, values: Map::from_iter([(param.to_owned(), value)]) }
}

pub(crate) fn line(line: usize, param: &str, value: Value) -> Way {
    Way::Line { line, param: param.into(), value }
}
