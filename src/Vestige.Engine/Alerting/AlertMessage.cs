namespace Vestige.Engine.Alerting;

/// <summary>What is told of an alert on one channel.</summary>
/// <param name="Channel">The channel's name.</param>
/// <param name="Alert">The alert as it was then.</param>
public sealed record AlertMessage(string Channel, Alert Alert);
