namespace Vestige.Web.Alerting;

/// <summary>A message that a stand-in received.</summary>
/// <param name="At">When.</param>
/// <param name="Kind">Webhook or email.</param>
/// <param name="Subject">The subject, or the message's own number.</param>
/// <param name="Body">What it says.</param>
/// <param name="Detail">The signature, or to whom it goes.</param>
public sealed record ReceivedPost(DateTimeOffset At, string Kind, string Subject, string Body, string Detail);
