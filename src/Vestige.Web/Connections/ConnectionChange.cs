using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Web.Api;

namespace Vestige.Web.Connections;

/// <summary>
/// Changes a connection that crossings use: the new settings are tested before anything is kept, and running crossings are
/// touched only when a person has confirmed it. They are then paused, and continue with the new settings from where they stood.
/// </summary>
public sealed class ConnectionChange(ConnectionDirectory connections, CrossingEngine engine)
{
    /// <summary>Climbs the ladder with the new settings, and says whether they lead to the same database. Keeps nothing.</summary>
    /// <param name="changed">The connection with its new settings; they have been checked.</param>
    /// <param name="secret">The new secret; null for the one that is kept.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<IReadOnlyList<ReadinessCheck>> TestAsync(ConnectionDefinition changed, string? secret, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(changed);
        await using var candidate = connections.Candidate(changed, secret);
        var probe = new SourceSystem(changed.Name, candidate).Probe;
        var lines = (await probe.TestAsync(cancellation)).ToList();
        if (lines.TrueForAll(line => line.Ok))
        {
            lines.Add(await CompareAsync(changed.Name, probe, cancellation));
        }

        return lines;
    }

    /// <summary>Pauses the crossings that run on it, keeps the change, and lets them go on. Returns their names.</summary>
    public async Task<IReadOnlyList<string>> ApplyAsync(
        ConnectionDefinition changed,
        string? secret,
        string by,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(changed);
        var running = ConnectionApi.RunningUsersOf(changed.Name, engine);
        var then = running.Count == 0 ? "" : $" {Figures.Of(running.Count, "crossing")} on it: paused, and resumed with them.";
        await engine.Events.OfConnectionAsync(
            changed.Name,
            EventKind.Note,
            $"Its settings are changed; lines of the old ones are closed.{then}",
            by
        );
        foreach (var crossing in running)
        {
            await engine.PauseAsync(crossing, by, cancellation);
        }

        try
        {
            await connections.SaveAsync(changed, secret, cancellation);
        }
        finally
        {
            foreach (var crossing in running)
            {
                await engine.RunAsync(crossing, by, CancellationToken.None);
            }
        }

        return running;
    }

    private async Task<ReadinessCheck> CompareAsync(string name, IProbe candidate, CancellationToken cancellation)
    {
        const string Needed = "the same database, for crossings that go on";
        try
        {
            var present = connections.Source(name).Probe;
            var same =
                await present.GetIdentityAsync(cancellation) == await candidate.GetIdentityAsync(cancellation)
                && await present.IsSameAsync(candidate, cancellation);
            return new ReadinessCheck(
                "same database",
                same,
                same ? "it is the one of the settings that are kept" : "it is another one than that of the settings that are kept",
                Needed,
                same
                    ? null
                    : "Its log is another, and a target without our rows stops the crossing: make another connection for another database.",
                TimeSpan.Zero
            );
        }
        catch (PortException exception)
        {
            return new ReadinessCheck(
                "same database",
                true,
                $"not known, since the settings that are kept do not work: {exception.Message}",
                Needed,
                null,
                TimeSpan.Zero
            );
        }
    }
}
