//! Looking without loading: surveys, previews, forecasts and histories.

mod forecast;
mod history;
mod preview;
mod survey;

pub use forecast::{Forecast, forecast};
pub use history::{History, ToldChange, Version, histories, last_of_each};
pub use preview::{Preview, PreviewRow, preview};
pub use survey::{
    FileReport, FoundFormat, FoundTable, Group, Survey, TypeConflict, find_key, nearly_typed, open_choice,
    survey,
};
