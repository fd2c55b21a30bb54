namespace Vestige.Engine.Ports;

/// <summary>Faults put on purpose into a system, in force until they are lifted or the process ends. Safe for several threads.</summary>
public interface IDrills
{
    /// <summary>What can be done now, in the order of a page.</summary>
    IReadOnlyList<Drill> All { get; }

    /// <summary>
    /// Does one of them. Throws <see cref="Faults.RequestRefusedException"/> when there is no such drill or a value cannot be
    /// used; nothing is changed then.
    /// </summary>
    /// <param name="drill">The name of a drill.</param>
    /// <param name="values">What goes with it and what a person gave, by name.</param>
    /// <param name="cancellation">Gives up.</param>
    /// <returns>What was done, as a sentence.</returns>
    Task<string> SetAsync(string drill, IReadOnlyDictionary<string, string> values, CancellationToken cancellation);
}
