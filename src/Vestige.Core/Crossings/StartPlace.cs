using System.Text.Json.Serialization;

namespace Vestige.Core.Crossings;

/// <summary>A place in the past of a source's log. Exactly one of both is given.</summary>
/// <param name="Position">This position, in the source's own notation: the tables hold what was committed up to it.</param>
/// <param name="Time">
/// After the last transaction, in log order, before the first that the source's clock says was committed later than this.
/// </param>
public sealed record StartPlace(
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Position = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] DateTimeOffset? Time = null
);
