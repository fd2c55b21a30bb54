using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Workers;

/// <summary>What one worker remembers of loads beside the stream that failed: when the next may begin, and what it cannot load.</summary>
internal sealed class LoadPauses(TimeProvider clock, Random random)
{
    private static readonly TimeSpan LeastBetweenReloads = TimeSpan.FromMinutes(1);
    private readonly Dictionary<TableName, string> causes = [];
    private readonly Dictionary<TableName, DateTimeOffset> reloaded = [];
    private int attempt;
    private DateTimeOffset notBefore;

    /// <summary>Whether a load may begin.</summary>
    public bool AreOver => clock.GetUtcNow() >= notBefore;

    /// <summary>
    /// Whether a table may be loaded again though nobody asked for it: not more often than once in a while, since one whose schema keeps
    /// changing would be loaded all the time.
    /// </summary>
    public bool MayReload(TableName table) =>
        !reloaded.TryGetValue(table, out var last) || clock.GetUtcNow() - last >= LeastBetweenReloads;

    /// <summary>A table is loaded again though nobody asked for it.</summary>
    public void Reloads(TableName table) => reloaded[table] = clock.GetUtcNow();

    /// <summary>A load failed; waiting may help.</summary>
    public void Failed() => notBefore = clock.GetUtcNow() + RetryPause.Before(++attempt, random);

    /// <summary>A table was loaded.</summary>
    public void Succeeded() => attempt = 0;

    /// <summary>Tables that cannot be loaded before a person does something are held, so that the others go on.</summary>
    public void Hold(IEnumerable<TableName> tables, Exception exception)
    {
        foreach (var table in tables)
        {
            causes[table] = exception.Message;
        }
    }

    /// <summary>Of tables that are to be loaded, those that are held instead; they are told once.</summary>
    public IReadOnlyList<TableProgress> TakeHeld(TargetProgress progress)
    {
        List<TableProgress> held =
        [
            .. progress
                .Tables.Where(table => !table.Loaded && causes.ContainsKey(table.Table))
                .Select(table =>
                    table with
                    {
                        Position = progress.Position!.Value,
                        Log = null,
                        Part = null,
                        HeldCause = $"The table could not be loaded: {causes[table.Table]} Load it again to continue.",
                    }
                ),
        ];
        causes.Clear();
        return held;
    }
}
