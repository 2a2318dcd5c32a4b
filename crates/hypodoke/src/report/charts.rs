//! Charts as SVG, in colours that the page exchanges for those of its own light or dark.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use plotters::coord::Shift;
use plotters::coord::types::RangedCoordf64;
use plotters::drawing::DrawingAreaErrorKind;
use plotters::prelude::*;

use super::figures::{Point, Usual};
use hypodoke_core::count;

/// The size of a chart: it is scaled to the width it gets.
const SIZE: (u32, u32) = (310, 190);

/// What is drawn, by the colours that the style sheet knows it by.
pub const INK: RGBColor = RGBColor(0x1b, 0x1f, 0x24);
/// Lines behind the figures.
pub const GRID: RGBColor = RGBColor(0xe3, 0xe7, 0xeb);
/// The figures.
pub const SERIES: RGBColor = RGBColor(0x2f, 0x6f, 0x9f);
/// Those that are odd.
pub const ODD: RGBColor = RGBColor(0xc2, 0x41, 0x0c);
/// What is usual.
pub const BAND: RGBColor = RGBColor(0xdc, 0xe9, 0xf2);

/// In quarters of a day.
const HALF_HOUR: f64 = 0.5 / 6.0;

/// Micros of a day.
const DAY: f64 = 86_400e6;

type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;

type Chart<'a> = ChartContext<'a, SVGBackend<'a>, Cartesian2d<RangedCoordf64, RangedCoordf64>>;

/// A mark on a chart: where it is, what it is, and how it is told.
struct Mark {
    x: f64,
    y: f64,
    odd: bool,
    /// The number of its file, which it leads to.
    file: i64,
    /// What it says when it is pointed at.
    title: String,
}

/// The time that charts of one page have in common.
#[derive(Clone, Copy)]
pub struct Scale<'z> {
    /// Whose clock it is.
    pub zone: &'z TimeZone,
    /// The earliest moment of all charts: microseconds since 1970.
    pub first: Option<i64>,
    /// The latest.
    pub last: Option<i64>,
}

impl Scale<'_> {
    /// Its ends in days since 1970.
    fn ends(&self) -> (f64, f64) {
        match (self.first, self.last) {
            (Some(first), Some(last)) => (local_days(first, self.zone), local_days(last, self.zone)),
            _ => (0.0, 1.0),
        }
    }
}

/// Rows of each file, by its time.
pub fn rows(points: &[Point], scale: Scale<'_>) -> String {
    let rejected = |point: &Point| match point.rejected {
        0 => String::new(),
        some => format!(", {} rejected", count::number(some)),
    };
    let title = |point: &Point| format!("{}: {}{}", point.path, count::rows(point.rows), rejected(point));
    let marks = marks(points, scale.zone, |point| point.rows as f64, title);
    let usual = Usual::of(points.iter().map(|point| point.rows as f64).collect());
    scatter(marks, None, usual, scale, &|y| short(*y))
}

/// Loads shorter than this are never odd: whatever else the machine does is as long.
const NOISE: f64 = 0.5;

/// The time that each file's load took, by the file's time.
pub fn seconds(points: &[Point], scale: Scale<'_>) -> String {
    let title = |point: &Point| format!("{}: {}", point.path, count::seconds(point.seconds));
    let mut marks = marks(points, scale.zone, |point| point.seconds, title);
    let usual = Usual::of(points.iter().map(|point| point.seconds).collect());
    for mark in &mut marks {
        mark.odd = mark.y > NOISE && usual.is_some_and(|usual| mark.y > usual.median && usual.is_odd(mark.y));
    }
    let most = points.iter().map(|point| point.seconds).fold(0.0, f64::max);
    let label = |y: &f64| {
        if most < 1.0 { format!("{} ms", trimmed(y * 1e3)) } else { format!("{} s", trimmed(*y)) }
    };
    scatter(marks, None, None, scale, &label)
}

/// The time of day that each file was written at.
pub fn arrivals(points: &[Point], scale: Scale<'_>) -> String {
    // In quarters of a day, which is where the lines are to be.
    let quarter = |point: &Point| local_days(point.written, scale.zone).fract() * 4.0;
    let title = |point: &Point| format!("{}: written at {}", point.path, clock(quarter(point) * 6.0));
    let mut marks = marks(points, scale.zone, quarter, title);
    let usual = Usual::of(points.iter().map(quarter).collect());
    // Half an hour off the usual time is nothing.
    let usual =
        usual.map(|usual| Usual { low: usual.low - HALF_HOUR, high: usual.high + HALF_HOUR, ..usual });
    for mark in &mut marks {
        mark.odd = usual.as_ref().is_some_and(|usual| {
            (usual.low - mark.y).max(mark.y - usual.high) > 2.0 * (usual.high - usual.low)
        });
    }
    scatter(marks, Some(4.0), usual, scale, &|y| clock(*y * 6.0))
}

/// Rows of all files of a day.
pub fn volume(points: &[Point], scale: Scale<'_>) -> String {
    let mut days: Vec<(f64, u64, u64, i64)> = Vec::new();
    for point in points {
        let day = local_days(point.at, scale.zone).floor();
        match days.last_mut().filter(|(known, ..)| *known == day) {
            Some((_, rows, files, _)) => (*rows, *files) = (*rows + point.rows, *files + 1),
            None => days.push((day, point.rows, 1, point.file)),
        }
    }
    let most = days.iter().map(|(_, rows, ..)| *rows).max().unwrap_or(0) as f64;
    let (first, last) = scale.ends();
    let (first, last) = (first.floor(), last.floor());
    let titles: Vec<(i64, String)> = days
        .iter()
        .map(|(day, rows, files, file)| {
            let what =
                format!("{}: {} in {}", date(*day, "%Y-%m-%d"), count::rows(*rows), count::files(*files));
            (*file, what)
        })
        .collect();
    let svg = drawn(|area| {
        let mut chart = ChartBuilder::on(&area)
            .margin(6)
            .x_label_area_size(24)
            .y_label_area_size(44)
            .build_cartesian_2d(first - 0.6..last + 1.6, 0.0..(most * 1.08).max(1.0))?;
        lines(&mut chart, "%b %-d", &|y| short(*y))?;
        chart.draw_series(days.iter().map(|(day, rows, ..)| {
            Rectangle::new([(day + 0.12, 0.0), (day + 0.88, *rows as f64)], SERIES.filled())
        }))?;
        area.present()?;
        Ok(())
    });
    linked(&svg, "<rect ", &["fill=\"#2F6F9F\""], titles)
}

fn marks(
    points: &[Point],
    zone: &TimeZone,
    y: impl Fn(&Point) -> f64,
    title: impl Fn(&Point) -> String,
) -> Vec<Mark> {
    let mark = |point: &Point| Mark {
        x: local_days(point.at, zone),
        y: y(point),
        odd: point.odd,
        file: point.file,
        title: title(point),
    };
    points.iter().map(mark).collect()
}

/// Marks by the day; the scale ends where it is said to, or above the highest of them.
fn scatter(
    marks: Vec<Mark>,
    end: Option<f64>,
    usual: Option<Usual>,
    scale: Scale<'_>,
    label: &dyn Fn(&f64) -> String,
) -> String {
    let most = marks.iter().map(|mark| mark.y).fold(0.0, f64::max);
    let high = end.unwrap_or(if most > 0.0 { most * 1.12 } else { 1.0 });
    let (first, last) = scale.ends();
    let pad = ((last - first) * 0.04).max(0.4);
    let svg = drawn(|area| {
        let mut chart = ChartBuilder::on(&area)
            .margin(6)
            .x_label_area_size(24)
            .y_label_area_size(44)
            .build_cartesian_2d(first - pad..last + pad, 0.0..high)?;
        if let Some(usual) = usual {
            let band = [(first - pad, usual.low), (last + pad, usual.high)];
            chart.draw_series(std::iter::once(Rectangle::new(band, BAND.filled())))?;
        }
        // A day and a time take more room: the labels must not run into each other.
        let days = if last - first < 2.5 { "%-d, %H:%M" } else { "%b %-d" };
        lines(&mut chart, days, label)?;
        let circle = |mark: &Mark| {
            let (radius, color) = if mark.odd { (5, ODD) } else { (3, SERIES) };
            Circle::new((mark.x, mark.y), radius, color.filled())
        };
        chart.draw_series(marks.iter().map(circle))?;
        area.present()?;
        Ok(())
    });
    let titles = marks.into_iter().map(|mark| (mark.file, mark.title)).collect();
    linked(&svg, "<circle ", &["#2F6F9F", "#C2410C"], titles)
}

/// The lines behind the figures, with what they stand for: days below, and figures at the side.
fn lines<'a>(
    chart: &mut Chart<'a>,
    days: &str,
    label: &dyn Fn(&f64) -> String,
) -> Result<(), DrawingAreaErrorKind<<SVGBackend<'a> as DrawingBackend>::ErrorType>> {
    chart
        .configure_mesh()
        .disable_x_mesh()
        .light_line_style(TRANSPARENT)
        .bold_line_style(GRID)
        .axis_style(GRID)
        .label_style(("sans-serif", 13, &INK))
        .x_labels(4)
        .y_labels(5)
        .x_label_formatter(&|x| date(*x, days))
        .y_label_formatter(&label)
        .draw()
}

/// Draws into a text. A text takes all that is drawn into it.
fn drawn(draw: impl FnOnce(Area<'_>) -> Result<(), Box<dyn std::error::Error>>) -> String {
    let mut svg = String::new();
    let area = SVGBackend::with_string(&mut svg, SIZE).into_drawing_area();
    let done = draw(area);
    debug_assert!(done.is_ok(), "{done:?}");
    svg
}

/// Makes every mark lead to its file, in the order in which they were drawn.
fn linked(svg: &str, tag: &str, colors: &[&str], titles: Vec<(i64, String)>) -> String {
    let mut titles = titles.into_iter();
    let mut out = String::with_capacity(svg.len() * 2);
    for line in svg.lines() {
        let is_mark = line.starts_with(tag) && colors.iter().any(|color| line.contains(color));
        match is_mark.then(|| titles.next()).flatten() {
            Some((file, title)) => {
                let title = maud::html! { title { (hypodoke_core::sanitize::clean(&title)) } }.into_string();
                let open = line.trim_end().trim_end_matches("/>");
                let tag = tag.trim_matches(['<', ' ']);
                out.push_str(&format!("<a href=\"#file-{file}\">{open}>{title}</{tag}></a>\n"));
            }
            None => {
                out.push_str(line);
                out.push('\n');
            }
        }
    }
    out
}

/// Days since 1970 by the clocks of a zone.
fn local_days(micros: i64, zone: &TimeZone) -> f64 {
    let at = Timestamp::from_microsecond(micros).unwrap_or_default();
    let shift = f64::from(zone.to_offset(at).seconds()) * 1e6;
    (micros as f64 + shift) / DAY
}

/// A day since 1970 in words.
fn date(days: f64, pattern: &str) -> String {
    let at = Timestamp::from_microsecond((days * DAY) as i64).unwrap_or_default();
    at.to_zoned(TimeZone::UTC).strftime(pattern).to_string()
}

/// `07:30`.
fn clock(hours: f64) -> String {
    let minutes = (hours * 60.0).round() as i64;
    format!("{:02}:{:02}", minutes / 60, minutes % 60)
}

/// `1.2k`.
fn short(value: f64) -> String {
    match value {
        v if v >= 1e6 => format!("{}M", trimmed(v / 1e6)),
        v if v >= 1e3 => format!("{}k", trimmed(v / 1e3)),
        v => trimmed(v),
    }
}

fn trimmed(value: f64) -> String {
    let text = format!("{value:.1}");
    text.strip_suffix(".0").map(str::to_owned).unwrap_or(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    const UTC: &TimeZone = &TimeZone::UTC;

    fn scale(points: &[Point]) -> Scale<'static> {
        let moments = || points.iter().map(|point| point.at);
        Scale { zone: UTC, first: moments().min(), last: moments().max() }
    }

    fn point(file: i64, rows: u64, odd: bool) -> Point {
        let at = (20_000 + file) * 86_400_000_000;
        Point { file, path: format!("a<{file}>.csv"), at, written: at, rows, rejected: 0, seconds: 0.5, odd }
    }

    #[test]
    fn every_mark_leads_to_its_file_and_says_what_it_is() {
        let points: Vec<Point> = (0..7).map(|file| point(file, 100 + file as u64, file == 3)).collect();
        for svg in
            [rows(&points, scale(&points)), volume(&points, scale(&points)), seconds(&points, scale(&points))]
        {
            for file in 0..7 {
                assert!(svg.contains(&format!("<a href=\"#file-{file}\">")), "{svg}");
            }
            assert!(!svg.contains("a<3>"), "names are written so that they are no markup");
        }
        let svg = rows(&points, scale(&points));
        assert_eq!(svg.matches("fill=\"#C2410C\"").count(), 1, "one is odd");
        assert!(svg.contains("a&lt;3&gt;.csv: 103 rows"), "{svg}");
    }

    #[test]
    fn nothing_is_drawn_of_nothing_and_nothing_fails() {
        for svg in [rows(&[], scale(&[])), volume(&[], scale(&[])), arrivals(&[], scale(&[]))] {
            assert!(svg.starts_with("<svg ") && !svg.contains("href"), "{svg}");
        }
    }
}
