namespace Vestige.Core.Forecasting;

/// <summary>Something that fills: a spool, or the log that a source keeps.</summary>
/// <param name="Held">What it holds, in bytes.</param>
/// <param name="Limit">The most it may hold, in bytes; null for no limit.</param>
/// <param name="Growth">Bytes a second by which it grows once it is filled.</param>
public sealed record StoreLevel(long Held, long? Limit, RateRange Growth);
