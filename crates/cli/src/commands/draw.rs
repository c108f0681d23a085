//! `uspan draw`.

use std::path::Path;

#[cfg(feature = "png")]
use resvg::{tiny_skia, usvg};
use uspan_core::{BuiltTunnel, Drawing, any_stops, draw};

use super::check::plan_few;
use crate::args::{Draw, Format, ThemeArg};
use crate::failure::{CommandOutcome, Failure};
use crate::files::single;
use crate::show::{GOOD, path_shown, styled};

pub fn run(args: &Draw) -> Result<CommandOutcome, Failure> {
    let path = &args.output;
    single::vacant(path, args.replace)?;
    let (mut read, planned) = plan_few(&args.file, &args.supply, None)?;
    let Some(description) = read.description.take().filter(|_| !any_stops(&planned.findings)) else {
        return super::stopped(&planned.findings, &read.source, Format::Text, serde_json::json!({}), "Nothing was drawn");
    };
    if let Some(unknown) = args.tunnel.iter().find(|name| planned.tunnels.iter().all(|tunnel| tunnel.name != **name)) {
        return Err(Failure::Usage(format!("the description has no tunnel of the name `{unknown}`")));
    }
    let meant = |tunnel: &&BuiltTunnel| args.tunnel.is_empty() || args.tunnel.contains(&tunnel.name);
    let tunnels: Vec<BuiltTunnel> = planned.tunnels.iter().filter(meant).cloned().collect();
    let raster = path.extension().is_some_and(|end| end.eq_ignore_ascii_case("png"));
    let theme = match (args.theme, raster) {
        (ThemeArg::Dark, _) => uspan_core::Theme::Dark,
        (ThemeArg::Light, _) | (ThemeArg::Auto, true) => uspan_core::Theme::Light,
        (ThemeArg::Auto, false) => uspan_core::Theme::Auto,
    };
    let Some(drawing) = draw(&description, &tunnels, theme) else {
        return Err(Failure::Usage("the description has no tunnel to draw".to_owned()));
    };
    if raster {
        single::bytes(path, &png(&drawing, path)?, args.replace)?;
    } else {
        single::text(path, &drawing.svg, args.replace)?;
    }
    let count = if tunnels.len() == 1 { "one tunnel".to_owned() } else { format!("{} tunnels", tunnels.len()) };
    super::print_line(&format!("{}: {count}, in {}", styled(GOOD, "Drawn"), path_shown(path)))?;
    Ok(CommandOutcome::Fine)
}

/// Nothing can: it was left out.
#[cfg(not(feature = "png"))]
fn png(_drawing: &Drawing, path: &Path) -> Result<Vec<u8>, Failure> {
    Err(Failure::Outside(format!("`{}` cannot be drawn: this program was built without `png`; write an .svg", path_shown(path))))
}

/// The picture in pixels, twice as fine as a screen, with the fonts that are installed.
#[cfg(feature = "png")]
fn png(drawing: &Drawing, path: &Path) -> Result<Vec<u8>, Failure> {
    const FINE: f32 = 2.0;
    let mut options = usvg::Options::default();
    options.fontdb_mut().load_system_fonts();
    if options.fontdb.is_empty() {
        return Err(Failure::Outside(format!(
            "`{}` cannot be drawn: no font is installed; apt-get install fonts-dejavu-core, or write an .svg",
            path_shown(path)
        )));
    }
    // Whatever the picture asks for, a font without serifs that is there.
    let sans = ["DejaVu Sans", "Noto Sans", "Liberation Sans"];
    let family = |name: &&&str| options.fontdb.faces().any(|face| face.families.iter().any(|(known, _)| known == **name));
    if let Some(name) = sans.iter().find(family) {
        options.fontdb_mut().set_sans_serif_family(*name);
    }
    let cannot = || Failure::Outside(format!("`{}` cannot be drawn", path_shown(path)));
    let tree = usvg::Tree::from_str(&drawing.svg, &options).map_err(|_| cannot())?;
    let size = tree.size().to_int_size().scale_by(FINE).ok_or_else(cannot)?;
    let mut pixels = tiny_skia::Pixmap::new(size.width(), size.height()).ok_or_else(cannot)?;
    resvg::render(&tree, tiny_skia::Transform::from_scale(FINE, FINE), &mut pixels.as_mut());
    pixels.encode_png().map_err(|_| cannot())
}
