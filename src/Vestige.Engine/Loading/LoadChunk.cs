using Vestige.Core.Loading;

namespace Vestige.Engine.Loading;

/// <summary>A part of a table's rows that is read in one go.</summary>
/// <param name="Load">The load of its table.</param>
/// <param name="Range">Which rows.</param>
/// <param name="Cost">About how many rows, at least 1.</param>
internal sealed record LoadChunk(TableLoad Load, KeyRange Range, double Cost);
