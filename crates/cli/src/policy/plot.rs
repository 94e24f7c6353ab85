//! Who could come in when, as a picture in a file: SVG, whose letters are the reader's, or PNG, with letters of its own.

use std::convert::Infallible;
use std::io::Write as _;
use std::path::Path;

use embedded_graphics::Drawable as _;
use embedded_graphics::mono_font::iso_8859_1::{FONT_8X13, FONT_10X20};
use embedded_graphics::mono_font::{MonoFont, MonoTextStyle};
use embedded_graphics::pixelcolor::{Rgb888, RgbColor as _};
use embedded_graphics::prelude::{DrawTarget, OriginDimensions, Pixel, Point, Size};
use embedded_graphics::text::{Baseline, Text};
use plotters::coord::Shift;
use plotters::element::Rectangle;
use plotters::prelude::{DrawingArea, IntoDrawingArea as _, IntoFont as _, RGBColor, SVGBackend, TextStyle};
use plotters::style::Color as _;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use plotters_backend::{BackendColor, BackendCoord, BackendTextStyle, DrawingBackend, DrawingErrorKind};
use yestrel_actions::policy::WholeWeek;
use yestrel_core::{Problem, Result};

/// Pixels of a picture's width.
const WIDTH: u32 = 1280;
/// Pixels to the left of the days, beside them, above the rows, of each row, and below.
const LEFT: i32 = 230;
const RIGHT: i32 = 30;
const TOP: i32 = 118;
const ROW: i32 = 30;
const BELOW: i32 = 46;
/// Rows of a picture; whoever is in none of them is counted.
const MOST: usize = 60;

const DAYS: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

const PAPER: RGBColor = RGBColor(255, 255, 255);
const BAND: RGBColor = RGBColor(244, 245, 247);
const LINE: RGBColor = RGBColor(206, 210, 216);
const INK: RGBColor = RGBColor(32, 36, 44);
const FAINT: RGBColor = RGBColor(98, 106, 118);
const OPEN: RGBColor = RGBColor(27, 111, 140);

/// What a picture's file is, by its name.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Form {
    Svg,
    Png,
}

impl Form {
    fn of(file: &Path) -> Result<Self> {
        match file.extension().and_then(|extension| extension.to_str()).map(str::to_ascii_lowercase).as_deref() {
            Some("svg") => Ok(Self::Svg),
            Some("png") => Ok(Self::Png),
            _ => Err(Problem::words(format!("{} is no name of a picture that can be drawn", file.display()))
                .why("it ends in .svg or .png, and is drawn so")
                .try_("--plot week.svg")),
        }
    }
}

/// Whether a picture of this name could be drawn, before anything is looked up for it.
///
/// # Errors
/// It does not say of which form it is, or there is such a file.
pub(super) fn check(file: &Path) -> Result<()> {
    Form::of(file)?;
    match file.symlink_metadata() {
        Ok(_) => Err(Problem::refused(format!("{} is there already", file.display()))
            .why("a picture takes no other file's place")
            .try_("another name, or remove it first")),
        Err(_) => Ok(()),
    }
}

/// Draws a week into a file that is not there yet.
///
/// # Errors
/// It cannot be written.
pub(super) fn draw(week: &WholeWeek, file: &Path) -> Result<()> {
    let height = height(week);
    let bytes = match Form::of(file)? {
        Form::Svg => {
            let mut text = String::new();
            paint(&SVGBackend::with_string(&mut text, (WIDTH, height)).into_drawing_area(), week)?;
            text.into_bytes()
        }
        Form::Png => {
            let mut pixels = Pixels::new(WIDTH, height);
            paint(&(&mut pixels).into_drawing_area(), week)?;
            pixels.png()?
        }
    };
    let cannot =
        |error: std::io::Error| Problem::failed(format!("{} cannot be written", file.display())).why(error.to_string());
    let mut made = std::fs::File::create_new(file).map_err(cannot)?;
    made.write_all(&bytes).map_err(|error| {
        // Half a picture is none.
        let _ = std::fs::remove_file(file);
        cannot(error)
    })
}

fn height(week: &WholeWeek) -> u32 {
    let rows = i32::try_from(week.rows.len().min(MOST)).unwrap_or(0);
    u32::try_from(TOP + rows * ROW + BELOW).unwrap_or(WIDTH)
}

/// Paints a week; all there is to see, whatever it is painted on.
fn paint<B: DrawingBackend>(area: &DrawingArea<B, Shift>, week: &WholeWeek) -> Result<()> {
    let cannot = |error: String| Problem::failed("the picture cannot be drawn").why(error);
    let text = |words: &str, size: u32, color: &RGBColor, at: (i32, i32), horizontal: HPos| -> Result<()> {
        let style = TextStyle::from(("sans-serif", size).into_font());
        let style = style.color(color).pos(Pos::new(horizontal, VPos::Center));
        area.draw_text(words, &style, at).map_err(|error| cannot(error.to_string()))
    };
    let block = |from: (i32, i32), to: (i32, i32), color: &RGBColor| -> Result<()> {
        area.draw(&Rectangle::new([from, to], color.filled())).map_err(|error| cannot(error.to_string()))
    };
    let right = i32::try_from(WIDTH).unwrap_or(0) - RIGHT;
    let rows = &week.rows[..week.rows.len().min(MOST)];
    let below = TOP + ROW * i32::try_from(rows.len()).unwrap_or(0);
    // Where a minute of the week is.
    let place = |day: usize, minute: u16| {
        let minutes = i64::try_from(day).unwrap_or(0) * 1440 + i64::from(minute);
        LEFT + i32::try_from(minutes * i64::from(right - LEFT) / (7 * 1440)).unwrap_or(0)
    };
    area.fill(&PAPER).map_err(|error| cannot(error.to_string()))?;
    text(&format!("Who could come in at {}", week.gateway), 20, &INK, (RIGHT, 30), HPos::Left)?;
    let under = format!("the week of {}, by the clock of {}; {}", week.monday, week.zone, week.list);
    text(&under, 13, &FAINT, (RIGHT, 56), HPos::Left)?;
    for (row, at) in rows.iter().zip(0..) {
        let (from, to) = (TOP + ROW * at, TOP + ROW * (at + 1));
        if at % 2 == 0 {
            block((RIGHT, from), (right, to), &BAND)?;
        }
        text(&shortened(&row.who()), 13, &INK, (RIGHT + 6, i32::midpoint(from, to)), HPos::Left)?;
    }
    for (day, name) in DAYS.into_iter().enumerate() {
        text(name, 13, &INK, (i32::midpoint(place(day, 0), place(day, 1440)), TOP - 34), HPos::Center)?;
        for hour in [0, 6, 12, 18] {
            let at = place(day, hour * 60);
            block((at, TOP - 6), (at, below), &LINE)?;
            if hour == 0 {
                block((at, TOP - 44), (at, TOP - 22), &LINE)?;
            }
            text(&hour.to_string(), 13, &FAINT, (at, TOP - 14), HPos::Center)?;
        }
    }
    block((right, TOP - 44), (right, below), &LINE)?;
    for (row, at) in rows.iter().zip(0..) {
        let (from, to) = (TOP + ROW * at + 7, TOP + ROW * (at + 1) - 7);
        for (day, spans) in row.days.iter().enumerate() {
            for (begins, ends) in spans {
                let (begins, ends) = (place(day, *begins), place(day, *ends));
                block((begins, from), (ends.max(begins + 1), to), &OPEN)?;
            }
        }
    }
    let left = week.rows.len() - rows.len();
    let more = if left > 0 { format!("; {left} more kinds of week: --format csv has them all") } else { String::new() };
    let legend = format!("filled: a sign-in would be admitted, to the minute{more}");
    block((RIGHT + 6, below + 17), (RIGHT + 26, below + 29), &OPEN)?;
    text(&legend, 13, &FAINT, (RIGHT + 36, below + 23), HPos::Left)
}

/// Users in as many letters as fit beside the days.
fn shortened(users: &str) -> String {
    const FIT: usize = 23;
    match users.chars().count() > FIT {
        true => users.chars().take(FIT - 3).chain("...".chars()).collect(),
        false => users.to_owned(),
    }
}

/// A picture of pixels, and letters of one width to put there.
struct Pixels {
    width: u32,
    height: u32,
    /// Red, green, blue; row by row.
    bytes: Vec<u8>,
}

impl Pixels {
    fn new(width: u32, height: u32) -> Self {
        Self { width, height, bytes: vec![255; 3 * width as usize * height as usize] }
    }

    fn set(&mut self, (x, y): (i32, i32), color: [u8; 3]) {
        let (Ok(x), Ok(y)) = (u32::try_from(x), u32::try_from(y)) else { return };
        if x < self.width && y < self.height {
            let at = 3 * (y as usize * self.width as usize + x as usize);
            self.bytes[at..at + 3].copy_from_slice(&color);
        }
    }

    /// The picture as a file (ISO/IEC 15948).
    fn png(&self) -> Result<Vec<u8>> {
        let cannot = |error: png::EncodingError| Problem::failed("the picture cannot be drawn").why(error.to_string());
        let mut file = Vec::new();
        let mut encoder = png::Encoder::new(&mut file, self.width, self.height);
        encoder.set_color(png::ColorType::Rgb);
        encoder.set_depth(png::BitDepth::Eight);
        let mut writer = encoder.write_header().map_err(cannot)?;
        writer.write_image_data(&self.bytes).map_err(cannot)?;
        writer.finish().map_err(cannot)?;
        Ok(file)
    }
}

impl OriginDimensions for Pixels {
    fn size(&self) -> Size {
        Size::new(self.width, self.height)
    }
}

impl DrawTarget for Pixels {
    type Color = Rgb888;
    type Error = Infallible;

    fn draw_iter<I: IntoIterator<Item = Pixel<Rgb888>>>(&mut self, pixels: I) -> std::result::Result<(), Infallible> {
        for Pixel(point, color) in pixels {
            self.set((point.x, point.y), [color.r(), color.g(), color.b()]);
        }
        Ok(())
    }
}

/// The letters for a size.
fn font(size: f64) -> &'static MonoFont<'static> {
    if size > 16.0 { &FONT_10X20 } else { &FONT_8X13 }
}

fn extent(words: &str, size: f64) -> (u32, u32) {
    let letter = font(size).character_size;
    (letter.width * u32::try_from(words.chars().count()).unwrap_or(0), letter.height)
}

impl DrawingBackend for &mut Pixels {
    type ErrorType = Infallible;

    fn get_size(&self) -> (u32, u32) {
        (self.width, self.height)
    }

    fn ensure_prepared(&mut self) -> std::result::Result<(), DrawingErrorKind<Infallible>> {
        Ok(())
    }

    fn present(&mut self) -> std::result::Result<(), DrawingErrorKind<Infallible>> {
        Ok(())
    }

    fn draw_pixel(
        &mut self,
        point: BackendCoord,
        color: BackendColor,
    ) -> std::result::Result<(), DrawingErrorKind<Infallible>> {
        let (red, green, blue) = color.rgb;
        self.set(point, [red, green, blue]);
        Ok(())
    }

    fn estimate_text_size<S: BackendTextStyle>(
        &self,
        words: &str,
        style: &S,
    ) -> std::result::Result<(u32, u32), DrawingErrorKind<Infallible>> {
        Ok(extent(words, style.size()))
    }

    fn draw_text<S: BackendTextStyle>(
        &mut self,
        words: &str,
        style: &S,
        (x, y): BackendCoord,
    ) -> std::result::Result<(), DrawingErrorKind<Infallible>> {
        let (red, green, blue) = style.color().rgb;
        let (wide, high) = extent(words, style.size());
        let anchor = style.anchor();
        let before = match anchor.h_pos {
            HPos::Left => 0,
            HPos::Center => wide / 2,
            HPos::Right => wide,
        };
        let above = match anchor.v_pos {
            VPos::Top => 0,
            VPos::Center => high / 2,
            VPos::Bottom => high,
        };
        let at = Point::new(x - i32::try_from(before).unwrap_or(0), y - i32::try_from(above).unwrap_or(0));
        let letters = MonoTextStyle::new(font(style.size()), Rgb888::new(red, green, blue));
        let drawn = Text::with_baseline(words, at, letters, Baseline::Top).draw(&mut **self);
        drawn.map(drop).map_err(DrawingErrorKind::DrawingError)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yestrel_actions::policy::Week;

    fn week() -> WholeWeek {
        let mut days: [Vec<(u16, u16)>; 7] = std::array::from_fn(|_| Vec::new());
        days[1] = vec![(330, 675)];
        days[6] = vec![(1439, 1440)];
        WholeWeek {
            gateway: "boatyard".into(),
            zone: "Europe/Oslo".into(),
            monday: jiff::civil::date(2027, 3, 1),
            list: "2 policies".into(),
            rows: vec![Week { users: vec!["oskar".into()], days }],
        }
    }

    #[test]
    fn what_is_open_is_filled_to_the_minute_and_nothing_else_is() {
        let week = week();
        let mut pixels = Pixels::new(WIDTH, height(&week));
        paint(&(&mut pixels).into_drawing_area(), &week).unwrap();
        let y = TOP + ROW / 2;
        let filled: Vec<i32> = (LEFT..i32::try_from(WIDTH).unwrap())
            .filter(|x| {
                let at = 3 * (usize::try_from(y).unwrap() * WIDTH as usize + usize::try_from(*x).unwrap());
                pixels.bytes[at..at + 3] == [OPEN.0, OPEN.1, OPEN.2]
            })
            .collect();
        // Tuesday from 5:30 to 11:15 of a week that is 1,020 pixels wide; and its last minute is one at least.
        let wide = i32::try_from(WIDTH).unwrap() - RIGHT - LEFT;
        let at = |day: i32, minute: i32| LEFT + (day * 1440 + minute) * wide / (7 * 1440);
        let mut wanted: Vec<i32> = (at(1, 330)..=at(1, 675)).collect();
        wanted.extend(at(6, 1439)..=at(6, 1440));
        assert_eq!(filled, wanted);
    }

    #[test]
    fn both_forms_say_the_same_words() {
        let week = week();
        let mut svg = String::new();
        paint(&SVGBackend::with_string(&mut svg, (WIDTH, height(&week))).into_drawing_area(), &week).unwrap();
        for words in
            ["Who could come in at boatyard", "the week of 2027-03-01, by the clock of Europe/Oslo", "oskar", "Tue"]
        {
            assert!(svg.contains(words), "{words}\n{svg}");
        }
        assert_eq!(shortened("mara, tomas and 39,998 more"), "mara, tomas and 39,9...");
    }
}
