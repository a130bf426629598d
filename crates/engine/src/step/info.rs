//! What the rest of the program knows of a step without running it.

/// What a step is called, said to do, and known to be.
#[derive(Debug)]
pub struct StepInfo {
    /// Name in recipes.
    pub id: &'static str,
    /// Name for people.
    pub title: &'static str,
    /// Heading it is listed under.
    pub group: &'static str,
    /// One or two sentences: what it does, in which space it computes.
    pub about: &'static str,
    /// What people may type when they look for it.
    pub words: &'static [&'static str],
    /// Values (JSON) that change nothing.
    pub neutral: &'static str,
    /// Values (JSON) a new line starts with on the bench.
    pub starter: &'static str,
    /// What must be known of it elsewhere.
    pub facts: Facts,
}

/// Groups of steps that can be held to an area.
pub const AREA_GROUPS: [&str; 4] = ["repair", "light", "colour", "detail"];

impl StepInfo {
    /// Whether it can be held to an area of the picture.
    pub fn takes_area(&self) -> bool {
        AREA_GROUPS.contains(&self.group)
    }

    /// Whether it cannot be mixed together with its neighbours: it changes where pixels lie, or reaches so far that it
    /// runs by itself.
    pub fn stands_alone(&self) -> bool {
        self.facts.moves_pixels || self.facts.expensive
    }
}

/// What the rest of the program must know of a step. Each is false or nothing unless the step says otherwise.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Facts {
    /// It changes where pixels lie or how large the picture is.
    pub moves_pixels: bool,
    /// It changes only where pixels lie, and how much light the lens lets through: what camera raw may have done to it before
    /// it is handed on as raw.
    pub shapes: bool,
    /// It takes so long that its result over the whole picture is worth keeping.
    pub expensive: bool,
    /// It does harm when done twice; what it makes of a picture, as in "this was denoised already".
    pub once: Option<&'static str>,
    /// What it does shows only where one pixel of the result is one of the screen.
    pub judged_at_full_size: bool,
    /// Parameters that are ends of the tones: while one is moved, what is clipped is shown.
    pub clips: &'static [&'static str],
    /// Parameters of which at most one is given; a new one takes the place of the others.
    pub one_of: &'static [&'static str],
    /// Its values are mostly the same from one recipe to the next, so that a new line starts from the last ones; what
    /// depends on the one picture (crop, horizon, exposure) starts afresh.
    pub starts_as_last_time: bool,
    /// How it is set on the picture itself.
    pub tool: Option<Tool>,
    /// What it does that matters to the order of steps.
    pub effects: &'static [Effect],
}

impl Facts {
    /// Nothing special.
    pub const NONE: Self = Self {
        moves_pixels: false,
        shapes: false,
        expensive: false,
        once: None,
        judged_at_full_size: false,
        clips: &[],
        one_of: &[],
        starts_as_last_time: false,
        tool: None,
        effects: &[],
    };

    /// Whether it does something of that kind.
    pub fn has(&self, effect: Effect) -> bool {
        self.effects.contains(&effect)
    }
}

/// How a step is set on the picture itself.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Tool {
    /// What the hand does.
    pub kind: ToolKind,
    /// The button that takes the tool up; without one it is at hand whenever the step is open.
    pub button: Option<&'static str>,
    /// What to do with it.
    pub hint: &'static str,
    /// Whether it is taken up as soon as the step is added.
    pub opens_at_once: bool,
    /// Whether the picture is shown as it comes to the step meanwhile.
    pub shows_input: bool,
}

/// What the hand does on the picture.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ToolKind {
    /// Moves and sizes a window.
    Window,
    /// Draws one line that should be level or upright.
    Horizon,
    /// Picks a spot that should be neutral.
    Neutral,
    /// Draws lines that should be upright or level.
    Lines,
    /// Marks spots.
    Spots,
    /// Draws from where something is full to where it ends.
    Ramp,
    /// Moves what is drawn to its place.
    Placing,
    /// Draws parts that do not count, or the one that does.
    Parts,
}

impl ToolKind {
    /// The word programs know it by.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Window => "window",
            Self::Horizon => "horizon",
            Self::Neutral => "neutral",
            Self::Lines => "lines",
            Self::Spots => "spots",
            Self::Ramp => "ramp",
            Self::Placing => "placing",
            Self::Parts => "parts",
        }
    }
}

/// What a step does that matters to the order of steps.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Effect {
    /// Finds single pixels that are wrong.
    FindsHotPixels,
    /// Takes noise away.
    RemovesNoise,
    /// Raises noise, or changes it so that it is no longer found.
    RaisesNoise,
    /// Takes back the softness of lens and sensor, at full size.
    RestoresCapture,
    /// Makes edges steeper.
    SharpensEdges,
    /// Sharpens for the size the result is seen at.
    SharpensOutput,
    /// Resamples to another size.
    Resizes,
    /// Sets the size of the result.
    SetsSize,
    /// Makes up detail for a larger picture.
    Enlarges,
    /// Decides what is in the picture, and how it stands.
    Frames,
    /// Turns the picture.
    Turns,
    /// Draws something on the picture or around it.
    Draws,
    /// Adds room around the picture.
    AddsMargin,
    /// Goes by the picture's corners.
    GoesByCorners,
    /// Lays frames of a sequence on each other.
    HoldsSteady,
    /// Evens the light of a sequence.
    EvensLight,
    /// Joins each frame of a sequence with others.
    JoinsFrames,
    /// Takes the mean of frames, and noise with that.
    AveragesFrames,
}
