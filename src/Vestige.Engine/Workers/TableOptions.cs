using System.Collections.Concurrent;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Workers;

/// <summary>What one definition says of the names of tables, each asked of it once. Safe for several threads.</summary>
internal sealed class TableOptions(CrossingDefinition definition)
{
    private readonly ConcurrentDictionary<TableName, bool> taken = new();
    private readonly ConcurrentDictionary<TableName, IReadOnlyList<TableName>> into = new();

    public CrossingDefinition Definition => definition;

    /// <summary>Whether it takes a table.</summary>
    public bool Takes(TableName table) => taken.GetOrAdd(table, definition.Tables.Takes);

    /// <summary>The target's tables that a table goes into.</summary>
    public IReadOnlyList<TableName> Into(TableName table, TargetSystem target) =>
        into.TryGetValue(table, out var known) ? known : into.GetOrAdd(table, CrossingTreatment.TargetsOf(definition, target, table));
}
