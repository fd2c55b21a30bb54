namespace Vestige.Web.Api;

/// <summary>Changes to apply again. Either a position or a time is given.</summary>
/// <param name="Position">After this position, in the source's notation.</param>
/// <param name="Time">After what was committed by this time.</param>
/// <param name="Tables">The tables, as schema.table; without any, all of the crossing for which it is possible.</param>
public sealed record RewindBody(string? Position = null, DateTimeOffset? Time = null, List<string>? Tables = null);
