//! Pages: Axum routes, Askama templates, assets.
