using Vestige.Core.Schemas;

namespace Vestige.Engine.Rewinding;

/// <summary>What applying again means for one table.</summary>
/// <param name="Table">The source's table.</param>
/// <param name="Changes">Changes of rows to apply again.</param>
/// <param name="Bytes">What they take in the log.</param>
/// <param name="Problem">Why they cannot be applied again, as the end of a sentence; null where they can.</param>
public sealed record RewindTable(TableName Table, long Changes, long Bytes, string? Problem);
