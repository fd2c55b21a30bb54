using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Following;

/// <summary>
/// Adds to types of a target's table what those of the source's table have more. A label of an enum stands in no log: a row that has it is
/// refused, and then the source is asked.
/// </summary>
internal sealed class TypeGrowth(WorkerContext context)
{
    private static readonly SchemaChange Growth = new(SchemaChangeKind.LabelAdded, "");

    /// <summary>True when the types take more than before. False also where a rule says that the table waits, and where it fails.</summary>
    public async Task<bool> TryAsync(TableName source, CancellationToken cancellation)
    {
        if (
            context.Target.Find<ISchemaEditor>() is not { } editor
            || context.Definition.OnSchemaChange(source, Growth) != SchemaChangeAction.Carry
        )
        {
            return false;
        }

        try
        {
            var there = await context.Source.Catalogue.ReadTablesAsync(cancellation);
            if (
                there.FirstOrDefault(table => table.Schema.Name == source)?.Schema is not { } schema
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
        catch (PortException exception) when (!exception.Transient)
        {
            return false;
        }
    }

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
