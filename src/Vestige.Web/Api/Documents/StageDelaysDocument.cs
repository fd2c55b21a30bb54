namespace Vestige.Web.Api.Documents;

/// <summary>Where a transaction spends its time, in seconds.</summary>
public sealed record StageDelaysDocument(double Capture, double Spool, double Treatment, double Apply);
