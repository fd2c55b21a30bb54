using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Rewinding;

/// <summary>Changes of some tables that a person wants applied again.</summary>
/// <param name="Crossing">The crossing.</param>
/// <param name="Tables">The source's tables.</param>
/// <param name="From">Changes after here are applied again, up to where each table is when its turn comes.</param>
/// <param name="By">Who asked for it.</param>
/// <param name="At">When.</param>
public sealed record Rewind(string Crossing, IReadOnlyList<TableName> Tables, LogPosition From, string By, DateTimeOffset At);
