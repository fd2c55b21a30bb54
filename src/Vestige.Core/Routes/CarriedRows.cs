using Vestige.Core.Schemas;

namespace Vestige.Core.Routes;

/// <summary>What a crossing carries, for the search for loops.</summary>
/// <param name="Crossing">Its name.</param>
/// <param name="Source">The database it reads.</param>
/// <param name="Target">The database it writes.</param>
/// <param name="TargetsOf">The target's tables that a table of the source goes into; none where it does not cross.</param>
public sealed record CarriedRows(string Crossing, string Source, string Target, Func<TableName, IReadOnlyList<TableName>> TargetsOf);
