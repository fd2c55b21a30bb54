namespace Vestige.Web.Api.Documents;

/// <summary>Where a transaction spends its time, in seconds.</summary>
/// <param name="Capture">From the commit until it is read from the log.</param>
/// <param name="Spool">Until it is durable in the spool.</param>
/// <param name="Treatment">Treating and folding.</param>
/// <param name="Apply">Waiting for the target and writing to it.</param>
/// <param name="Rest">Waiting while the crossing loads, is paused, or rests by its own rule; in none of the others.</param>
public sealed record StageDelaysDocument(double Capture, double Spool, double Treatment, double Apply, double Rest);
