//! Bars that lie on their side, for pages: what is large, and how many.

use std::fmt::Write as _;

use super::page::text;

/// One bar.
pub struct Bar {
    /// What it is about.
    pub name: String,
    /// How long it is, against the others.
    pub value: u64,
    /// What it says behind the bar.
    pub said: String,
    /// Whether it asks for somebody.
    pub urgent: bool,
}

/// Draws them as SVG, in the order given.
pub fn svg(title: &str, bars: &[Bar]) -> String {
    const ROW: f64 = 26.0;
    const LEFT: f64 = 250.0;
    const LONGEST: f64 = 520.0;
    let most = bars.iter().map(|bar| bar.value).max().unwrap_or(0).max(1);
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 960 {}\" role=\"img\" font-family=\"system-ui,sans-serif\" font-size=\"13\" fill=\"#1c2530\"><title>{}</title>",
        ROW * bars.len() as f64 + 8.0,
        text(title)
    );
    for (number, bar) in bars.iter().enumerate() {
        let y = 4.0 + ROW * number as f64;
        // Whatever is not nothing is seen.
        let long = match bar.value {
            0 => 0.0,
            value => (value as f64 / most as f64 * LONGEST).max(2.0),
        };
        let colour = if bar.urgent { "#b3341e" } else { "#1f7a8c" };
        let _ = write!(
            out,
            "<text x=\"{}\" y=\"{:.1}\" text-anchor=\"end\">{}</text><rect x=\"{LEFT}\" y=\"{:.1}\" width=\"{long:.1}\" height=\"16\" fill=\"{colour}\"/><text x=\"{:.1}\" y=\"{:.1}\" fill=\"#5a6675\">{}</text>",
            LEFT - 10.0,
            y + 14.0,
            text(&shortened(&bar.name)),
            y + 1.0,
            LEFT + long + 8.0,
            y + 14.0,
            text(&bar.said)
        );
    }
    out.push_str("</svg>");
    out
}

/// Names that are too long for their column lose their middle.
fn shortened(name: &str) -> String {
    const MOST: usize = 34;
    let letters: Vec<char> = name.chars().collect();
    if letters.len() <= MOST {
        return name.to_owned();
    }
    let head: String = letters[..MOST / 2].iter().collect();
    let tail: String = letters[letters.len() - MOST / 2..].iter().collect();
    format!("{head}…{tail}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_has_its_length_and_no_name_is_markup() {
        let bar = |name: &str, value| Bar {
            name: name.into(),
            value,
            said: format!("{value} B"),
            urgent: false,
        };
        let drawn = svg("Space", &[bar("<b>", 100), bar("half", 50), bar("none", 0)]);
        assert!(drawn.contains("&lt;b&gt;") && drawn.contains("width=\"520.0\""));
        assert!(drawn.contains("width=\"260.0\"") && drawn.contains("width=\"0.0\""));
        assert_eq!(shortened(&"é".repeat(40)).chars().count(), 35);
    }
}
