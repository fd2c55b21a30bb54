using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// The staging tables of one transaction: those that its session has, and those that it makes, which the commit hands over.
/// </summary>
internal sealed class StagingTables(PostgreSqlTargetTransaction transaction, PostgreSqlTargetSession session)
{
    private readonly Dictionary<TableName, Staging> made = [];

    /// <summary>Those that hold rows: they are emptied by the commit only.</summary>
    private readonly HashSet<string> filled = [];

    /// <summary>The staging table for a form, made when this session has none.</summary>
    public async Task<Staging> ForAsync(TableSchema form, CancellationToken cancellation)
    {
        if (made.TryGetValue(form.Name, out var found) || session.Stagings.TryGetValue(form.Name, out found))
        {
            if (ReferenceEquals(found.Schema, form) || found.Schema.SameForm(form))
            {
                return found;
            }

            await transaction.RunAsync($"DROP TABLE {found.Name}", "Dropping a staging table", cancellation);
        }

        var staging = Staging.For(form, session.NextStaging());
        await transaction.RunAsync(staging.Create, $"Making a staging table for {form.Name}", cancellation);
        return made[form.Name] = staging;
    }

    /// <summary>One without rows, for one batch of several in this transaction.</summary>
    public async Task<Staging> EmptyForAsync(TableSchema form, CancellationToken cancellation)
    {
        var staging = await ForAsync(form, cancellation);
        if (!filled.Add(staging.Name))
        {
            await transaction.RunAsync($"TRUNCATE {staging.Name}", "Emptying a staging table", cancellation);
        }

        return staging;
    }

    /// <summary>The transaction was committed: the session has what it made.</summary>
    public void HandOver()
    {
        foreach (var (table, staging) in made)
        {
            session.Stagings[table] = staging;
        }
    }
}
