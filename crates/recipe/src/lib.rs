//! The recipe document: steps, deliveries, names; validation, schema, plain sentences.
