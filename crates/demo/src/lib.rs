//! Scenes of Thistlewick Nursery drawn by formula.
