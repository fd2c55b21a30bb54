using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Spooling;

/// <summary>A table whose changes are read into a spool.</summary>
/// <param name="Name">The table.</param>
/// <param name="WholeAfter">
/// Of transactions after this position every change of the table is held; null where that is not known yet. A transaction that
/// was open when the table began to be read may hold changes that were passed over, wherever it was committed.
/// </param>
public sealed record SpooledTable(TableName Name, LogPosition? WholeAfter = null);
