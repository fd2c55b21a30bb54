namespace Vestige.Web.Api;

/// <summary>Tables to copy as they were at a place in the past. Either a position or a time is given.</summary>
/// <param name="Target">The connection that gets the rows.</param>
/// <param name="Position">The position, in the source's notation.</param>
/// <param name="Time">The time: what was committed by then.</param>
/// <param name="Tables">The tables, as schema.table.</param>
/// <param name="Name">The name of the crossing that copies them; null for one made from this crossing's name and the time.</param>
/// <param name="Into">The schema on the target; null for the names of this crossing.</param>
public sealed record AsOfBody(
    string? Target = null,
    string? Position = null,
    DateTimeOffset? Time = null,
    List<string>? Tables = null,
    string? Name = null,
    string? Into = null
);
