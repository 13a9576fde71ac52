//! What plots are drawn on where pixels are wanted: lines and areas with smooth edges, and the glyphs of the embedded font
//! as outlines.

use std::convert::Infallible;

use plotters::prelude::{DrawingBackend, FontTransform};
use plotters::style::text_anchor::{HPos, VPos};
use plotters_backend::{BackendColor, BackendCoord, BackendStyle, BackendTextStyle, DrawingErrorKind};
use tiny_skia::{FillRule, Paint, Path, PathBuilder, Pixmap, Stroke, Transform};
use ttf_parser::{Face, OutlineBuilder};

/// Of a text's size, as the drawing library counts it, the part that is the em of its font; as in its SVG output.
const EM: f64 = 1.0 / 1.24;

/// Pixels to draw on.
pub(crate) struct Canvas<'a> {
    pixels: &'a mut Pixmap,
    font: Face<'a>,
}

impl<'a> Canvas<'a> {
    pub(crate) fn new(pixels: &'a mut Pixmap, font: Face<'a>) -> Self {
        Self { pixels, font }
    }

    fn fill(&mut self, path: &Path, color: BackendColor) {
        self.pixels.fill_path(path, &paint(color), FillRule::Winding, Transform::identity(), None);
    }

    fn stroke(&mut self, path: &Path, style: &impl BackendStyle) {
        let stroke = Stroke { width: style.stroke_width() as f32, ..Stroke::default() };
        self.pixels.stroke_path(path, &paint(style.color()), &stroke, Transform::identity(), None);
    }
}

fn paint(color: BackendColor) -> Paint<'static> {
    let mut paint = Paint::default();
    let (red, green, blue) = color.rgb;
    paint.set_color_rgba8(red, green, blue, (color.alpha * 255.0).round() as u8);
    paint
}

/// A line through points; closed where an area is meant.
fn path_of(points: impl IntoIterator<Item = BackendCoord>, closed: bool) -> Option<Path> {
    let mut builder = PathBuilder::new();
    for (index, (x, y)) in points.into_iter().enumerate() {
        match index {
            0 => builder.move_to(x as f32, y as f32),
            _ => builder.line_to(x as f32, y as f32),
        }
    }
    if closed {
        builder.close();
    }
    builder.finish()
}

type Drawn = Result<(), DrawingErrorKind<Infallible>>;

impl DrawingBackend for Canvas<'_> {
    type ErrorType = Infallible;

    fn get_size(&self) -> (u32, u32) {
        (self.pixels.width(), self.pixels.height())
    }

    fn ensure_prepared(&mut self) -> Drawn {
        Ok(())
    }

    fn present(&mut self) -> Drawn {
        Ok(())
    }

    fn draw_pixel(&mut self, (x, y): BackendCoord, color: BackendColor) -> Drawn {
        let corners = [(x, y), (x + 1, y), (x + 1, y + 1), (x, y + 1)];
        path_of(corners, true).iter().for_each(|path| self.fill(path, color));
        Ok(())
    }

    fn draw_line<S: BackendStyle>(&mut self, from: BackendCoord, to: BackendCoord, style: &S) -> Drawn {
        self.draw_path([from, to], style)
    }

    fn draw_path<S: BackendStyle, I: IntoIterator<Item = BackendCoord>>(&mut self, points: I, style: &S) -> Drawn {
        path_of(points, false).iter().for_each(|path| self.stroke(path, style));
        Ok(())
    }

    fn draw_rect<S: BackendStyle>(&mut self, (x0, y0): BackendCoord, (x1, y1): BackendCoord, style: &S, filled: bool) -> Drawn {
        match path_of([(x0, y0), (x1, y0), (x1, y1), (x0, y1)], true) {
            Some(path) if filled => self.fill(&path, style.color()),
            Some(path) => self.stroke(&path, style),
            None => {}
        }
        Ok(())
    }

    fn fill_polygon<S: BackendStyle, I: IntoIterator<Item = BackendCoord>>(&mut self, points: I, style: &S) -> Drawn {
        path_of(points, true).iter().for_each(|path| self.fill(path, style.color()));
        Ok(())
    }

    fn draw_circle<S: BackendStyle>(&mut self, (x, y): BackendCoord, radius: u32, style: &S, filled: bool) -> Drawn {
        match PathBuilder::from_circle(x as f32, y as f32, radius as f32) {
            Some(path) if filled => self.fill(&path, style.color()),
            Some(path) => self.stroke(&path, style),
            None => {}
        }
        Ok(())
    }

    fn draw_text<S: BackendTextStyle>(&mut self, text: &str, style: &S, (x, y): BackendCoord) -> Drawn {
        let scale = (style.size() * EM) as f32 / f32::from(self.font.units_per_em());
        let glyphs: Vec<_> = text
            .chars()
            .map(|sign| self.font.glyph_index(sign).or_else(|| self.font.glyph_index('\u{FFFD}')).unwrap_or_default())
            .collect();
        let advance = |glyph| f32::from(self.font.glyph_hor_advance(glyph).unwrap_or(0));
        let width: f32 = glyphs.iter().map(|glyph| advance(*glyph)).sum();
        let mut pen = match style.anchor().h_pos {
            HPos::Left => 0.0,
            HPos::Center => -width / 2.0,
            HPos::Right => -width,
        };
        // From the anchor down to the baseline.
        let half = f32::from(self.font.x_height().unwrap_or(0)) / 2.0;
        let down = match style.anchor().v_pos {
            VPos::Top => 0.76 * f32::from(self.font.units_per_em()),
            VPos::Center => half,
            VPos::Bottom => -half,
        };
        let mut outline = Outline(PathBuilder::new(), (0.0, 0.0));
        for glyph in glyphs {
            outline.1 = (pen, down);
            self.font.outline_glyph(glyph, &mut outline);
            pen += advance(glyph);
        }
        let turn = match style.transform() {
            FontTransform::None => 0.0,
            FontTransform::Rotate90 => 90.0,
            FontTransform::Rotate180 => 180.0,
            FontTransform::Rotate270 => 270.0,
        };
        let place = Transform::from_scale(scale, scale).post_rotate(turn).post_translate(x as f32, y as f32);
        if let Some(path) = outline.0.finish().and_then(|path| path.transform(place)) {
            self.fill(&path, style.color());
        }
        Ok(())
    }
}

/// Glyphs beside one another, each moved to its place; y points down here, and up in a font.
struct Outline(PathBuilder, (f32, f32));

impl Outline {
    fn at(&self, x: f32, y: f32) -> (f32, f32) {
        (self.1.0 + x, self.1.1 - y)
    }
}

impl OutlineBuilder for Outline {
    fn move_to(&mut self, x: f32, y: f32) {
        let (x, y) = self.at(x, y);
        self.0.move_to(x, y);
    }

    fn line_to(&mut self, x: f32, y: f32) {
        let (x, y) = self.at(x, y);
        self.0.line_to(x, y);
    }

    fn quad_to(&mut self, x1: f32, y1: f32, x: f32, y: f32) {
        let ((x1, y1), (x, y)) = (self.at(x1, y1), self.at(x, y));
        self.0.quad_to(x1, y1, x, y);
    }

    fn curve_to(&mut self, x1: f32, y1: f32, x2: f32, y2: f32, x: f32, y: f32) {
        let ((x1, y1), (x2, y2), (x, y)) = (self.at(x1, y1), self.at(x2, y2), self.at(x, y));
        self.0.cubic_to(x1, y1, x2, y2, x, y);
    }

    fn close(&mut self) {
        self.0.close();
    }
}
