using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Following;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Commands;

/// <summary>
/// Checks tables that were loaded by other means and get only changes: every one must be there, and hold as many rows as the
/// source has or, where changes are taken from a place in the past, had there.
/// </summary>
internal sealed class FoundTables(SourceSystem source, TargetSystem target, Spool? spool, TimeProvider clock)
{
    public async Task<IReadOnlyList<ReadinessCheck>> CheckAsync(
        StartPlace? from,
        IReadOnlyList<TableTreatment> treatments,
        CancellationToken cancellation
    )
    {
        var checks = new List<ReadinessCheck>();
        var names = treatments.Select(treatment => treatment.Source.Name).ToList();
        Dictionary<TableName, long?>? since = null;
        if (from is not null)
        {
            var past = new PastStart(source, spool, clock);
            var (check, begin) = await past.FindAsync(from, names, cancellation);
            checks.Add(check);
            if (begin is not { } position)
            {
                return checks;
            }

            since = await past.RowsSinceAsync(position, names, cancellation);
        }

        var there = (await target.Catalogue.ReadTablesAsync(cancellation)).Select(table => table.Schema.Name).ToHashSet();
        foreach (var treatment in treatments)
        {
            var missing = treatment.Tables.Select(table => table.Schema.Name).Where(name => !there.Contains(name)).ToList();
            checks.AddRange(
                missing.Select(name => new ReadinessCheck(
                    $"target table {name}",
                    false,
                    "it is not there",
                    "a table that was loaded by other means",
                    "Load it, or replicate rows as well.",
                    TimeSpan.Zero
                ))
            );
            if (missing.Count == 0 && treatment.KeepsAllRows)
            {
                checks.Add(await AgreesAsync(treatment, since, cancellation));
            }
        }

        return checks;
    }

    private async Task<ReadinessCheck> AgreesAsync(
        TableTreatment treatment,
        Dictionary<TableName, long?>? since,
        CancellationToken cancellation
    )
    {
        var name = treatment.Source.Name;
        var (now, copied) = (
            await source.Lookup.CountAsync(name, null, cancellation),
            await target.Lookup.CountAsync(treatment.Tables[0].Schema.Name, treatment.Tables[0].Schema.Shared, cancellation)
        );
        var then = since is null ? now : now - since[name];
        var (here, there) = ($"{Figures.Of(now, "row")} on the source", $"{Figures.Count(copied)} on the target");
        var found =
            then is null ? $"{here} and {there}; {name} was truncated or altered since, so that what it had then is not known"
            : since is null ? $"{here} and {there}, counted one after the other"
            : $"{here}, {Figures.Count(then.Value)} by the log where changes begin, and {there}, counted one after the other";
        return new ReadinessCheck(
            $"rows of {name}",
            then == copied,
            found,
            "the same rows on both sides",
            then == copied
                ? null
                : "Find the rows that differ and load the table again; or accept it, if rows were written between the two counts.",
            TimeSpan.Zero
        )
        {
            MayAccept = true,
        };
    }
}
