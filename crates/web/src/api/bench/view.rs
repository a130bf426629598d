//! What part of a result is seen through a window, and how it lies on the original.

use crate::error::{Error, Result};
use rallo_engine::{Plan, Rect, Size};
use schemars::JsonSchema;
use serde::Deserialize;

/// A window onto the result.
#[derive(Clone, Deserialize, JsonSchema)]
pub struct ViewAsk {
    /// Pixels of the screen, across and down, 1 to 16,384 each.
    #[schemars(inner(range(min = 1.0, max = 16384.0)))]
    pub(in crate::api) room: [f64; 2],
    /// Pixels of the screen for one of the result; nothing shows the whole.
    #[serde(default)]
    #[schemars(range(min = 0.01, max = 64.0))]
    pub(in crate::api) zoom: Option<f64>,
    /// What lies in the middle, as shares of the result.
    pub(in crate::api) centre: [f64; 2],
}

/// Most pixels of a window each way.
const LARGEST_ROOM: f64 = 16_384.0;

impl ViewAsk {
    pub(in crate::api) fn check(&self) -> Result<()> {
        let fits = |v: &f64| (1.0..=LARGEST_ROOM).contains(v);
        if !self.room.iter().all(fits) {
            return Err(Error::bad(format!("view.room: expected 1 to {LARGEST_ROOM} pixels each way")));
        }
        if self.zoom.is_some_and(|z| !(0.01..=64.0).contains(&z)) {
            return Err(Error::bad("view.zoom: expected 0.01 to 64"));
        }
        if !self.centre.iter().all(|v| v.is_finite()) {
            return Err(Error::bad("view.centre: expected shares of the picture"));
        }
        Ok(())
    }

    /// Pixels of the screen for one of a result of that size.
    pub(in crate::api) fn zoom(&self, size: Size) -> f64 {
        let (w, h) = (f64::from(size.width), f64::from(size.height));
        self.zoom.unwrap_or_else(|| (self.room[0] / w).min(self.room[1] / h).min(1.0))
    }

    /// What is seen of a result of that size, in its pixels: left, top, right, bottom. As the page lays it out.
    pub(in crate::api) fn seen(&self, size: Size) -> [f64; 4] {
        let zoom = self.zoom(size);
        let side = |room: f64, side: u32, share: f64| {
            let side = f64::from(side);
            let spare = room - side * zoom;
            let at = if spare >= 0.0 {
                spare / 2.0
            } else {
                (room / 2.0 - share * side * zoom).min(0.0).max(spare)
            };
            ((-at / zoom).max(0.0), ((room - at) / zoom).min(side))
        };
        let (left, right) = side(self.room[0], size.width, self.centre[0]);
        let (top, bottom) = side(self.room[1], size.height, self.centre[1]);
        [left, top, right, bottom]
    }
}

/// What part of a result is shown, and what it covers of the view's result.
pub(in crate::api) struct Shown {
    pub(in crate::api) scale: f64,
    /// In pixels of the result at that scale.
    pub(in crate::api) region: Rect,
    /// In pixels of the view's result, at full size: left, top, right, bottom.
    pub(in crate::api) area: [f64; 4],
    /// Size of the view's result.
    pub(in crate::api) size: Size,
    /// A number for how the view's result lies on the source.
    pub(in crate::api) geometry: String,
    /// Whether this picture is framed as the view's result is.
    pub(in crate::api) is_alike: bool,
}

/// How a plan's output lies on the source, in numbers: equal for equal geometry, whatever the lines are.
pub(super) fn geometry(plan: &Plan) -> String {
    let size = plan.size();
    let at = |share: f64, side: u32| share * f64::from(side);
    let points: Vec<(i64, i64)> = (0..9)
        .map(|n| {
            let (x, y) = (f64::from(n % 3) / 2.0, f64::from(n / 3) / 2.0);
            let (x, y) = plan.source_point((at(x, size.width), at(y, size.height)));
            ((x * 100.0).round() as i64, (y * 100.0).round() as i64)
        })
        .collect();
    rallo_media::content_hash(format!("{size:?} {points:?}").as_bytes())[..16].to_owned()
}

/// How a result lies on another one.
pub(in crate::api) struct Moved {
    /// So many of its pixels are as long as one of the other's.
    pub(in crate::api) times: f64,
    /// A point of the other one, and the same place in its own pixels.
    pub(in crate::api) middle: (f64, f64),
    pub(in crate::api) at: (f64, f64),
}

/// The part of a plan's output that shows `seen` (left, top, right, bottom, in its pixels) at so many pixels of the screen
/// each. `moved` tells how its pixels lie on those of the view's result, where they do not lie on each other.
pub(in crate::api) fn part_of(
    plan: &Plan,
    zoom: f64,
    seen: [f64; 4],
    moved: Option<Moved>,
    (size, geometry): (Size, String),
) -> Shown {
    let scale = zoom.clamp(1e-4, 1.0);
    let whole = plan.program(scale).size();
    let low = |v: f64, side: u32| ((v * scale).floor() as i64).clamp(0, i64::from(side) - 1);
    let high = |v: f64, side: u32| ((v * scale).ceil() as i64).clamp(1, i64::from(side));
    let (x, y) = (low(seen[0], whole.width), low(seen[1], whole.height));
    let (right, bottom) = (high(seen[2], whole.width).max(x + 1), high(seen[3], whole.height).max(y + 1));
    let region = Rect::new(x, y, right - x, bottom - y);
    let is_alike = moved.is_none();
    let Moved { times, middle, at } =
        moved.unwrap_or(Moved { times: 1.0, middle: (0.0, 0.0), at: (0.0, 0.0) });
    let column = |v: i64| (v as f64 / scale - at.0) / times + middle.0;
    let row = |v: i64| (v as f64 / scale - at.1) / times + middle.1;
    let area = [column(x), row(y), column(right), row(bottom)];
    Shown { scale, region, area, size, geometry, is_alike }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_engine::Settings;
    use rallo_engine::step_kind;
    use serde_json::Value;
    use serde_json::json;

    fn plan(size: Size, lines: &[(&str, Value)]) -> Plan {
        let one = |(id, values): &(&str, Value)| {
            Settings::from(step_kind(id).unwrap().parse(values.as_object().unwrap()).unwrap())
        };
        Plan::new(lines.iter().map(one).collect(), size).unwrap()
    }

    #[test]
    fn what_is_asked_for_lies_in_the_picture_and_covers_what_is_seen() {
        for (w, h) in [(6000, 4000), (1200, 1800), (300, 200), (1, 1), (9000, 500)] {
            let (size, plan) = (Size::new(w, h), plan(Size::new(w, h), &[]));
            for zoom in [None, Some(1.0), Some(2.0), Some(3.0)] {
                for centre in [[0.5, 0.5], [0.0, 1.0], [0.93, 0.2], [-4.0, 9.0]] {
                    let view = ViewAsk { room: [870.0, 640.0], zoom, centre };
                    let (zoom, seen) = (view.zoom(size), view.seen(size));
                    let shown = part_of(&plan, zoom, seen, None, (size, String::new()));
                    let whole = plan.program(shown.scale).size().rect();
                    assert!(
                        !shown.region.is_empty() && shown.region.within(whole) == shown.region,
                        "{w} × {h}"
                    );
                    assert!(shown.scale <= 1.0 && (shown.scale - zoom.min(1.0)).abs() < 1e-12);
                    // As much as there is room for, and never beyond the picture.
                    for (side, room, of) in [(0, 870.0, w), (1, 640.0, h)] {
                        let (low, high) = (seen[side], seen[side + 2]);
                        let want = (room / zoom).min(f64::from(of));
                        assert!(low >= 0.0 && high <= f64::from(of) + 1e-9, "{seen:?} of {w} × {h}");
                        assert!((high - low - want).abs() < 1e-6, "{seen:?} of {w} × {h} at {zoom}");
                        assert!(
                            shown.area[side] <= low + 1e-9
                                && shown.area[side + 2] >= high - 1.0 / shown.scale
                        );
                    }
                }
            }
        }
    }

    #[test]
    fn geometry_is_told_by_where_pixels_come_from_and_not_by_lines() {
        let size = Size::new(900, 600);
        let of = |lines: &[(&str, Value)]| geometry(&plan(size, lines));
        let turn = |to: &str| ("rotate", json!({"turn": to}));
        assert_eq!(of(&[]), of(&[("exposure", json!({"stops": 1.0}))]));
        assert_eq!(of(&[turn("right"), turn("left")]), of(&[]));
        let mirror = || ("mirror", json!({"across": "left and right"}));
        assert_ne!(of(&[mirror()]), of(&[]));
        let crop = |x: u32| ("crop", json!({"pixels": [x, 10, 300, 200]}));
        assert_ne!(of(&[crop(10)]), of(&[crop(11)]));
        // The same size is not the same place.
        assert_ne!(of(&[crop(10)]), of(&[("resize", json!({"long_edge": 300}))]));
    }

    #[test]
    fn a_window_that_makes_no_sense_is_refused() {
        let check = |room, zoom, centre| ViewAsk { room, zoom, centre }.check();
        assert!(check([870.0, 640.0], Some(2.0), [0.5, 0.5]).is_ok());
        assert!(check([0.0, 640.0], None, [0.5, 0.5]).is_err());
        assert!(check([f64::NAN, 640.0], None, [0.5, 0.5]).is_err());
        assert!(check([870.0, 1e9], None, [0.5, 0.5]).is_err());
        assert!(check([870.0, 640.0], Some(0.0), [0.5, 0.5]).is_err());
        assert!(check([870.0, 640.0], None, [f64::INFINITY, 0.5]).is_err());
    }
}
