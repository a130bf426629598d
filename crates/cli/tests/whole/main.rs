//! The whole program, driven from outside: the command line, the HTTP interface, and the pages in a browser.
//!
//! One test program instead of many, since each would hold all of Rallo once more.
#![allow(missing_docs)]

mod common;

mod accessible;
mod answers;
mod browser;
mod camera_raw;
mod command_line;
mod commands;
mod controls;
mod data;
mod deliveries;
mod first_five_minutes;
mod first_minute;
mod fleet;
mod fleet_links;
mod fleet_sequences;
mod frames;
mod gather_to_clip;
mod hand_on;
mod instruction_sets;
mod interface;
mod missing;
mod moves;
mod preview;
mod queue;
mod recording;
mod runs;
mod safety;
mod same_bytes;
mod scripts;
mod sequences;
mod sheet;
mod steady;
mod together;
mod ways;
