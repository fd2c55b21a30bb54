namespace Vestige.Engine.Events;

/// <summary>Something that happened.</summary>
/// <param name="At">When.</param>
/// <param name="Crossing">The crossing; null for what is about a connection or the process itself.</param>
/// <param name="Connection">The connection; null for what is about a crossing or the process itself.</param>
/// <param name="Kind">How much attention it asks for.</param>
/// <param name="Text">What happened, in a sentence. Never holds row values besides keys.</param>
/// <param name="By">Who or what did it.</param>
public sealed record CrossingEvent(DateTimeOffset At, string? Crossing, string? Connection, EventKind Kind, string Text, string By);
