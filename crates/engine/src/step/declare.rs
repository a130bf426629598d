//! The form a step is written in: its description and its parameters, each said once.
//!
//! From this come the struct with its defaults, the table of parameters that the bench, the command line, the
//! schema and the documentation read, and the [`StepKind`](super::StepKind) that is listed in `steps::registry`.
//! The text above the struct, and above each parameter, is what people read.
//!
//! ```ignore
//! step! {
//!     /// Makes the picture brighter or darker, as a longer exposure would.
//!     pub struct Exposure: PartialEq {
//!         id: "exposure",
//!         title: "Exposure",
//!         group: "light",
//!         words: ["brighter", "darker"],
//!         neutral: r#"{"stops": 0}"#,
//!         starter: r#"{"stops": 0.5}"#,
//!     }
//!     parameters {
//!         /// Stops brighter (above 0) or darker.
//!         stops: f64 = 0.0, Kind::Number { min: -5.0, max: 5.0, step: 0.05 }, "stops";
//!     }
//! }
//! ```
//!
//! `facts: { … }` after `starter` says what the rest of the program must know of the step ([`Facts`](super::Facts));
//! `measured { … }` after the parameters names what a step keeps of what it was shown; recipes do not hold it.

/// Declares a step; see the module's description.
macro_rules! step {
    (
        $(#[doc = $about:literal])+
        pub struct $name:ident $(: $($derived:ident),+)? {
            id: $id:literal,
            title: $title:literal,
            group: $group:literal,
            words: [$($word:literal),* $(,)?],
            neutral: $neutral:literal,
            starter: $starter:literal,
            $(facts: { $($fact:ident: $known:expr),* $(,)? },)?
        }
        parameters {
            $(
                $(#[doc = $what:literal])+
                $param:ident: $type:ty = $default:expr, $kind:expr $(, $unit:literal)?;
            )*
        }
        $(measured {
            $(
                $(#[doc = $seen_what:literal])*
                $seen:ident: $seen_type:ty = $seen_default:expr;
            )*
        })?
    ) => {
        /// What the program knows of the step without running it.
        pub static INFO: $crate::step::StepInfo = $crate::step::StepInfo {
            id: $id,
            title: $title,
            group: $group,
            about: concat!($($about),+).trim_ascii_start(),
            words: &[$($word),*],
            neutral: $neutral,
            starter: $starter,
            facts: $crate::step::Facts { $($($fact: $known,)*)? ..$crate::step::Facts::NONE },
        };

        static PARAMS: &[$crate::step::Param] = &[$(
            $crate::step::Param {
                name: stringify!($param),
                about: concat!($($what),+).trim_ascii_start(),
                unit: concat!($($unit)?),
                kind: $kind,
            },
        )*];

        /// The step as it is listed in `steps::registry`.
        pub static KIND: $crate::step::StepKind = $crate::step::StepKind::of::<$name>(&INFO, PARAMS);

        $(#[doc = $about])+
        #[derive(Clone, Debug, serde::Serialize, serde::Deserialize $($(, $derived)+)?)]
        #[serde(default)]
        pub struct $name {
            $(
                $(#[doc = $what])+
                pub $param: $type,
            )*
            $($(
                $(#[doc = $seen_what])*
                #[serde(skip)]
                $seen: $seen_type,
            )*)?
        }

        impl Default for $name {
            fn default() -> Self {
                Self { $($param: $default,)* $($($seen: $seen_default,)*)? }
            }
        }
    };
}

pub(crate) use step;
