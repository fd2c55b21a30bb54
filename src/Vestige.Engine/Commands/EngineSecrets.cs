using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Commands;

/// <summary>What an installation encrypts and masks with.</summary>
/// <param name="Spool">Encrypts what is written down of logs.</param>
/// <param name="Masks">The keys of masks.</param>
public sealed record EngineSecrets(ISpoolCipher Spool, IMaskKeys Masks);
