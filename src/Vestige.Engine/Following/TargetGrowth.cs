using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Following;

/// <summary>
/// Makes a target's table take what it refused and the source's table took. The log does not show labels that an enum gets: a row that has
/// one is refused, and then the source is asked. A column that took NULL only between two looks at the source, and takes none now, is known
/// by its rows alone. A source's column that takes NULL is not meant: the target's was changed by others. Kept for one transaction of the
/// source; not safe for several threads.
/// </summary>
/// <param name="context">What the worker works with.</param>
/// <param name="others">Columns of the source's tables, by their names on the target, out of which others keep NULL; added to.</param>
internal sealed class TargetGrowth(WorkerContext context, ISet<(TableName Source, string Column)> others)
{
    private static readonly SchemaChange Growth = new(SchemaChangeKind.LabelAdded, "");
    private readonly List<CarriedEdit> edits = [];
    private readonly HashSet<TableName> grown = [];

    /// <summary>What is to be done to the target's tables before the transaction is applied once more.</summary>
    public IReadOnlyList<CarriedEdit> Edits => edits;

    /// <summary>
    /// True when the table takes more than before, or will by what is to be done. False also where a rule says that the table waits, and
    /// where it fails.
    /// </summary>
    public async Task<bool> TryAsync(RowRefusedException refusal, CancellationToken cancellation)
    {
        if (context.Target.Find<ISchemaEditor>() is not { } editor)
        {
            return false;
        }

        try
        {
            return refusal switch
            {
                { NullIn: { } column } => !others.Contains((refusal.Table, column))
                    && await TakesNullAsync(refusal.Table, column, cancellation),
                { OfType: true } => grown.Add(refusal.Table) && await GrowAsync(editor, refusal.Table, cancellation),
                _ => false,
            };
        }
        catch (PortException exception) when (!exception.Transient)
        {
            return false;
        }
    }

    private async Task<bool> TakesNullAsync(TableName source, string column, CancellationToken cancellation)
    {
        if (
            await SchemaAsync(source, cancellation) is { } schema
            && PlainTable.Of(context.Treating, schema)?.EditToTakeNull(column) is { } edit
            && context.Definition.OnSchemaChange(source, edit.Changes[0]) == SchemaChangeAction.Carry
            && !edits.Any(one => one.Source == source && one.Edit.Changes[0] == edit.Changes[0])
        )
        {
            edits.Add(new CarriedEdit(source, edit));
            return true;
        }

        others.Add((source, column));
        return false;
    }

    private async Task<bool> GrowAsync(ISchemaEditor editor, TableName source, CancellationToken cancellation)
    {
        if (
            context.Definition.OnSchemaChange(source, Growth) != SchemaChangeAction.Carry
            || await SchemaAsync(source, cancellation) is not { } schema
            || context.Treating.TryBuild(schema).Treatment is not { } treatment
        )
        {
            return false;
        }

        var statements = new List<string>();
        foreach (var table in context.Target.Tables.StructureOf([treatment]).Tables)
        {
            statements.AddRange(await editor.GrowTypesAsync(table, cancellation));
        }

        await TellAsync(source, statements);
        return statements.Count > 0;
    }

    private async Task<TableSchema?> SchemaAsync(TableName source, CancellationToken cancellation) =>
        (await context.Source.Catalogue.ReadTablesAsync(cancellation)).FirstOrDefault(table => table.Schema.Name == source)?.Schema;

    private async Task TellAsync(TableName source, List<string> statements)
    {
        if (statements.Count > 0)
        {
            await context.Events.OfCrossingAsync(
                context.Crossing,
                EventKind.Note,
                $"Types of {source} were changed as at the source: {string.Join("; ", statements)}."
            );
        }
    }
}
